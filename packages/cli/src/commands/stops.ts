import type { Stop } from '@zbell/contract'
import type { Command } from 'commander'
import { table } from '../drawing/table.ts'
import { safe } from '../drawing/text.ts'
import { moment } from '../drawing/time.ts'
import { exitCodes, UsageError } from '../exit-codes.ts'
import type { Io } from '../io.ts'
import { type Context, printJson, type Run, withContext } from './context.ts'

type StartFlags = { readonly ring?: string[]; readonly yes?: boolean }

/** Adds to the group `app` what halts and starts it. */
export function stopCommands(group: Command, io: Io, done: Run): void {
  group
    .command('stop')
    .description('Stop everything that the app sends, within a second, whatever sends it')
    .requiredOption('--reason <text>', 'told to whoever looks')
    .addHelpText('after', '\nExample:\n  $ zbell app stop --reason "wrong times in the timetable"')
    .action(
      withContext<{ reason: string }, []>(io, done, async (context) => {
        const { client, app, flags } = context
        const body = { reason: flags.reason }
        return tell(context, await client.call('stopApp', { params: { app }, body }))
      }),
    )
  group
    .command('start')
    .description('Let a stopped app send again, and say what of that which waits is still to ring')
    .option('--ring <what...>', 'all, none, or the ids of those that are; asked when left out')
    .addHelpText('after', '\nExample:\n  $ zbell app start --ring none')
    .action(withContext<StartFlags, []>(io, done, start))
  group
    .command('state')
    .description('Whether the app is stopped, why, and what waits for it to be started')
    .addHelpText('after', '\nExample:\n  $ zbell app state')
    .action(
      withContext<object, []>(io, done, async (context) =>
        tell(context, await context.client.call('readStop', { params: { app: context.app } })),
      ),
    )
}

async function start(context: Context<StartFlags>): Promise<number> {
  const { client, app, flags, io } = context
  const before = await client.call('readStop', { params: { app } })
  const ring = before.waiting.length === 0 ? 'all' : (given(flags.ring) ?? (await asked(context, before)))
  const started = await client.call('startApp', { params: { app }, body: { ring } })
  if (flags.json) printJson(io, started)
  else {
    const count = before.waiting.length
    io.out(count === 0 ? 'It sends again.\n' : `It sends again; of ${count} that waited, ${said(ring)}.\n`)
  }
  return exitCodes.done
}

const said = (ring: 'all' | 'none' | readonly string[]): string =>
  ring === 'all' ? 'all ring' : ring === 'none' ? 'none rings' : `${ring.length} ring`

function given(ring: readonly string[] | undefined): 'all' | 'none' | string[] | undefined {
  if (ring === undefined) return undefined
  const [only] = ring
  return ring.length === 1 && (only === 'all' || only === 'none') ? only : [...ring]
}

async function asked(context: Context<StartFlags>, stop: Stop): Promise<'all' | 'none'> {
  const { io } = context
  const count = stop.waiting.length
  if (!io.ask)
    throw new UsageError(`${count} notifications wait, and nobody is here to ask; add --ring all or --ring none.`)
  io.err(waitingTable(context, stop))
  const answer = (await io.ask(`Which of these ${count} are still to ring? [all/none] `)).trim().toLowerCase()
  if (answer === 'all' || answer === 'none') return answer
  throw new UsageError('it stays stopped: answer all or none, or name them with --ring.')
}

const waitingTable = ({ paint }: Context<object>, { waiting }: Stop): string =>
  table(
    ['notification', 'name', 'title', 'sent by', 'devices'],
    waiting.map(({ notification, name, title, sentBy, devices }) => [
      notification,
      safe(name ?? '–'),
      safe(title),
      safe(sentBy),
      devices.toLocaleString('en'),
    ]),
    paint.dim,
  )

function tell(context: Context<object>, stop: Stop): number {
  const { flags, io } = context
  if (flags.json) printJson(io, stop)
  else if (stop.stopped === null) io.out('It sends.\n')
  else {
    const { reason, stoppedBy, stoppedAt } = stop.stopped
    io.out(`Stopped: ${safe(reason)} (${safe(stoppedBy)}, ${moment(stoppedAt, io)})\n`)
    io.out(stop.waiting.length === 0 ? 'Nothing waits.\n' : `\n${waitingTable(context, stop)}`)
  }
  return exitCodes.done
}
