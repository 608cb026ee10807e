import type { AppSettings } from '@zbell/contract'
import type { Command } from 'commander'
import { called } from '../called.ts'
import { table } from '../drawing/table.ts'
import { exitCodes, UsageError } from '../exit-codes.ts'
import type { Io } from '../io.ts'
import { type Context, printJson, type Run, withContext } from './context.ts'
import { countIn, truthIn } from './reading.ts'

type ChangeFlags = {
  readonly askFrom?: string
  readonly timeZone?: string
  readonly runawayFloor?: string
  readonly requireProof?: string
  readonly openTopics?: string
}

export function settingsCommands(program: Command, io: Io, done: Run): void {
  const group = program
    .command('settings')
    .description('What the app asks of its devices and of whoever sends to many; for owners')
  group
    .command('show')
    .description('Show the settings')
    .addHelpText('after', '\nExample:\n  $ zbell settings show')
    .action(
      withContext<object, []>(io, done, async (context) =>
        tell(context, await context.client.call('readSettings', { params: { app: context.app } })),
      ),
    )
  group
    .command('change')
    .description('Change those that are given')
    .option('--ask-from <count>', 'who sends to so many devices or more has to confirm their number')
    .option('--time-zone <zone>', 'the clock of those whose devices have told none')
    .option('--runaway-floor <count>', 'a trigger that fires less often within an hour is never stopped as a runaway')
    .option('--require-proof <yes|no>', 'a device that names a user has to show a proof of it')
    .option('--open-topics <yes|no>', 'devices may join topics that nobody declared')
    .addHelpText('after', '\nExample:\n  $ zbell settings change --ask-from 5000 --require-proof yes')
    .action(withContext<ChangeFlags, []>(io, done, change))
  group
    .command('proof-key')
    .description('Create a new key for proofs of users; the one before ends, and this one is printed this once')
    .addHelpText('after', '\nExample:\n  $ zbell settings proof-key')
    .action(withContext<object, []>(io, done, proofKey))
}

async function change(context: Context<ChangeFlags>): Promise<number> {
  const { client, app, flags } = context
  const { askFrom, timeZone, runawayFloor, requireProof, openTopics } = flags
  const body = {
    ...(askFrom === undefined ? {} : { askFrom: countIn('--ask-from', askFrom, 'a number of devices') }),
    ...(timeZone === undefined ? {} : { timeZone }),
    ...(runawayFloor === undefined ? {} : { runawayFloor: Number(runawayFloor) }),
    ...(requireProof === undefined ? {} : { requireProof: truthIn('--require-proof', requireProof) }),
    ...(openTopics === undefined ? {} : { openTopics: truthIn('--open-topics', openTopics) }),
  }
  if (Object.keys(body).length === 0)
    throw new UsageError(
      'nothing to change was given; give --ask-from, --time-zone, --runaway-floor, --require-proof or --open-topics.',
    )
  return tell(context, await client.call('changeSettings', { params: { app }, body }))
}

async function proofKey({ client, app, flags, io }: Context<object>): Promise<number> {
  const made = await client.call('makeProofKey', { params: { app } })
  if (flags.json) printJson(io, made)
  else {
    io.out(`${made.key}\n`)
    io.err('It is printed this once. Your backend signs with it: HS256, sub the user, exp at most an hour ahead.\n')
  }
  return exitCodes.done
}

function tell({ flags, io, paint }: Context<object>, settings: AppSettings): number {
  const { askFrom, timeZone, runawayFloor, requireProof, openTopics } = settings
  const said = (is: boolean) => (is ? 'yes' : 'no')
  if (flags.json) printJson(io, settings)
  else
    io.out(
      table(
        ['setting', 'is', ''],
        [
          ['ask from', askFrom.toLocaleString('en'), 'devices on: who sends to so many confirms their number'],
          ['time zone', timeZone, 'the clock of those whose devices have told none'],
          ['runaway floor', runawayFloor.toLocaleString('en'), 'firings in an hour up to which no trigger is stopped'],
          ['require proof', said(requireProof), 'a device that names a user has to show a proof of it'],
          ['open topics', said(openTopics), 'devices may join topics that nobody declared'],
          ['quiet hours', String(settings.quietHours.length), `windows: ${called(io)} quiet-hours list`],
          ['caps', String(settings.caps.length), `${called(io)} cap list`],
          ['proof key', said(settings.proofKey), 'there is a key to sign proofs with'],
        ],
        paint.dim,
      ),
    )
  return exitCodes.done
}
