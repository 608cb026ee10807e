import type { NotificationRequest } from '@zbell/contract'
import type { Command } from 'commander'
import { UsageError } from '../exit-codes.ts'
import type { Io } from '../io.ts'
import { type Context, type Run, withContext } from './context.ts'
import { watchToEnd } from './watching.ts'

type SendFlags = {
  readonly to: string[]
  readonly title?: string
  readonly body?: string
  readonly navigate?: string
  readonly tag?: string
  readonly data?: string
  readonly urgency?: string
  readonly ttl?: string
  readonly mode?: string
  readonly idempotencyKey?: string
  readonly watch: boolean
}

export function sendCommand(program: Command, io: Io, done: Run): void {
  program
    .command('send')
    .description('Send a notification and follow it until every device has come to an end')
    .requiredOption('--to <reference...>', 'who: user:NAME, device:ID or everyone; several may be given')
    .option('--title <text>', 'the first line')
    .option('--body <text>', 'the text below it')
    .option('--navigate <place>', 'where a tap leads: a path in the app, or an address')
    .option('--tag <tag>', 'takes the place of an earlier one with the same tag')
    .option('--data <json>', 'an object for the app')
    .option('--urgency <urgency>', 'very-low, low, normal or high')
    .option('--ttl <seconds>', 'how long it may wait for a device')
    .option('--mode <mode>', 'show, or wake: the app is woken and nothing is shown')
    .option('--idempotency-key <key>', 'the same key again does not send again')
    .option('--no-watch', 'return as soon as it is accepted')
    .addHelpText(
      'after',
      '\nExample:\n  $ zbell send --to user:ada --title "Kittiwake is 15 minutes late" --body "New departure 17:45 from berth 2."',
    )
    .action(withContext<SendFlags, []>(io, done, send))
}

async function send(context: Context<SendFlags>): Promise<number> {
  const { client, app, flags, io, paint } = context
  const request = {
    to: { any: flags.to },
    content: {
      ...(flags.title === undefined ? {} : { title: flags.title }),
      ...(flags.body === undefined ? {} : { body: flags.body }),
      ...(flags.navigate === undefined ? {} : { navigate: flags.navigate }),
      ...(flags.tag === undefined ? {} : { tag: flags.tag }),
      ...(flags.data === undefined ? {} : { data: parseData(flags.data) }),
    },
    ...(flags.urgency === undefined ? {} : { urgency: flags.urgency }),
    ...(flags.ttl === undefined ? {} : { ttlSeconds: seconds(flags.ttl) }),
    ...(flags.mode === undefined ? {} : { mode: flags.mode }),
  } as NotificationRequest
  const accepted = await client.call('sendNotification', {
    params: { app },
    body: request,
    ...(flags.idempotencyKey === undefined ? {} : { headers: { 'idempotency-key': flags.idempotencyKey } }),
  })
  if (!flags.watch) {
    io.out(flags.json ? `${JSON.stringify(accepted, null, 2)}\n` : `${accepted.id}\n`)
    return 0
  }
  if (!flags.json) io.out(`${paint.strong(accepted.id)}  to ${flags.to.join(', ')}\n\n`)
  return watchToEnd(context, accepted.id)
}

function parseData(text: string): Record<string, never> {
  try {
    return JSON.parse(text) as Record<string, never>
  } catch {
    throw new UsageError(`--data is not JSON: ${text.slice(0, 60)}; write an object, such as '{"sailing": 12}'.`)
  }
}

function seconds(text: string): number {
  if (!/^\d+$/.test(text)) throw new UsageError(`--ttl wants whole seconds, not ${text.slice(0, 40)}.`)
  return Number(text)
}
