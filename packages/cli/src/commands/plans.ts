import type { NotificationRequest } from '@zbell/contract'
import type { Command } from 'commander'
import { exitCodes, UsageError } from '../exit-codes.ts'
import type { Io } from '../io.ts'
import { type Context, type Run, withContext } from './context.ts'
import { present } from './reading.ts'
import { watchToEnd } from './watching.ts'
import { sayUnderstood, type WhenFlags, whenIn, withWhen } from './when-flags.ts'

type TargetFlags = { readonly to?: string[]; readonly where?: string; readonly watch: boolean }
type PushFlags = WhenFlags &
  TargetFlags & { readonly title: string; readonly body?: string; readonly navigate?: string; readonly tag?: string }

const withTarget = (command: Command): Command =>
  command
    .option('--to <reference...>', 'whose devices: user:NAME, topic:NAME, segment:NAME or everyone')
    .option('--where <rule>', 'only those for which this condition holds, in CEL')
    .option('--no-watch', 'return as soon as it is accepted')

export function planCommands(program: Command, io: Io, done: Run): void {
  const group = program.command('plan').description('Push plans that devices ring by themselves, without a network')
  withWhen(withTarget(group.command('push <name>')))
    .description('Push a plan to devices, in place of one of this name; by the clock of each device')
    .requiredOption('--title <text>', 'the first line')
    .option('--body <text>', 'the text below it')
    .option('--navigate <place>', 'where a tap leads')
    .option('--tag <tag>', 'takes the place of an earlier one with the same tag')
    .addHelpText(
      'after',
      `
A device rings DAILY, WEEKLY and MONTHLY rules with INTERVAL, BYDAY, BYMONTHDAY, COUNT and UNTIL.

Example:
  $ zbell plan push last-boat --to topic:route-4 --at 22:40 --repeat FREQ=DAILY --title "The last boat leaves in ten minutes"`,
    )
    .action(withContext<PushFlags, [string]>(io, done, push))
  withTarget(group.command('revoke <name...>'))
    .description('Remove plans of these names from devices')
    .addHelpText('after', '\nExample:\n  $ zbell plan revoke last-boat --to topic:route-4')
    .action(
      withContext<TargetFlags, [string[]]>(io, done, async (context, names) => tellDevices(context, { cancel: names })),
    )
}

async function push(context: Context<PushFlags>, name: string): Promise<number> {
  const { title, body, navigate, tag, ...flags } = context.flags
  const timed = flags.at !== undefined || flags.local !== undefined || flags.repeat !== undefined
  // An instant is one everywhere; a time of day is each device’s own, unless a zone is named.
  const zone = flags.zone ?? (timed && !/Z|[+-]\d{2}:\d{2}$/.test(flags.at ?? '') ? 'reader' : undefined)
  const when = whenIn({ ...flags, ...(zone === undefined ? {} : { zone }) }, context.io.timeZone)
  if (!when) throw new UsageError('Say when it rings: --at 22:40, --in 15m or --at 07:30 --repeat FREQ=DAILY.')
  if (!context.flags.json) await sayUnderstood(context, when)
  const content = { title, ...present({ body, navigate, tag }) }
  return tellDevices(context, { plans: [{ name, when, content }] })
}

async function tellDevices(context: Context<TargetFlags>, commands: object): Promise<number> {
  const { client, app, flags, io, paint } = context
  const to = present({ any: flags.to, rule: flags.where })
  if (Object.keys(to).length === 0)
    throw new UsageError('Say whose devices: --to user:NAME, topic:NAME, segment:NAME or everyone, or --where RULE.')
  const request = { to, mode: 'wake', content: { commands } } as NotificationRequest
  const accepted = await client.call('sendNotification', { params: { app }, body: request })
  if (!flags.watch) {
    io.out(flags.json ? `${JSON.stringify(accepted, null, 2)}\n` : `${accepted.id}\n`)
    return exitCodes.done
  }
  if (!flags.json) io.out(`${paint.strong(accepted.id)}\n\n`)
  return watchToEnd(context, accepted.id)
}
