import type { Caps, QuietHours } from '@zbell/contract'
import type { Command } from 'commander'
import { table } from '../drawing/table.ts'
import { safe } from '../drawing/text.ts'
import { exitCodes, UsageError } from '../exit-codes.ts'
import type { Io } from '../io.ts'
import { type Context, printJson, type Run, withContext } from './context.ts'
import { countIn, present } from './reading.ts'

type UserFlags = { readonly user?: string }
type CoverFlags = { readonly channel?: string[]; readonly belowUrgency?: string }
type AddFlags = UserFlags &
  CoverFlags & { readonly from: string; readonly to: string; readonly then?: string; readonly days?: string }
type CapFlags = CoverFlags & { readonly most: string; readonly hours: string }
type QuietWindow = QuietHours[number]
type Cap = Caps[number]

export function policyCommands(program: Command, io: Io, done: Run): void {
  quietHoursCommands(program, io, done)
  capCommands(program, io, done)
}

const withCoverage = (command: Command): Command =>
  command
    .option('--channel <channel...>', 'only for these channels; for all when left out')
    .option('--below-urgency <urgency>', 'only for what is less urgent than this; any for however urgent')

function quietHoursCommands(program: Command, io: Io, done: Run): void {
  const group = program
    .command('quiet-hours')
    .description('Hours of each reader’s clock in which nothing rings: the app’s, or with --user a person’s own')
  const ofUser = (command: Command) => command.option('--user <name>', 'this person’s own, beside the app’s')
  ofUser(group.command('list'))
    .description('Show what is in force')
    .addHelpText('after', '\nExample:\n  $ zbell quiet-hours list\n  $ zbell quiet-hours list --user ada')
    .action(withContext<UserFlags, []>(io, done, async (context) => tellQuiet(context, await readQuiet(context))))
  withCoverage(ofUser(group.command('add')))
    .description('Add a window')
    .requiredOption('--from <time>', 'when it begins, by the reader’s clock: 22:00')
    .requiredOption('--to <time>', 'when it ends, the next day where that is earlier: 07:00')
    .option('--days <days>', 'the days on which it begins: MO,TU,WE; every day when left out')
    .option('--then <what>', 'wait: it rings when they end; skip: it is left out', 'wait')
    .addHelpText('after', '\nExample:\n  $ zbell quiet-hours add --from 22:00 --to 07:00 --channel offers')
    .action(withContext<AddFlags, []>(io, done, addQuiet))
  ofUser(group.command('clear'))
    .description('Remove all windows')
    .addHelpText('after', '\nExample:\n  $ zbell quiet-hours clear')
    .action(withContext<UserFlags, []>(io, done, async (context) => tellQuiet(context, await saveQuiet(context, []))))
}

async function readQuiet({ client, app, flags }: Context<UserFlags>): Promise<QuietHours> {
  const { user } = flags
  return user === undefined
    ? (await client.call('readSettings', { params: { app } })).quietHours
    : (await client.call('readQuietHours', { params: { app, user } })).quietHours
}

async function saveQuiet({ client, app, flags }: Context<UserFlags>, quietHours: QuietHours): Promise<QuietHours> {
  const { user } = flags
  return user === undefined
    ? (await client.call('changeSettings', { params: { app }, body: { quietHours } })).quietHours
    : (await client.call('saveQuietHours', { params: { app, user }, body: { quietHours } })).quietHours
}

async function addQuiet(context: Context<AddFlags>): Promise<number> {
  const { from, to, days, user } = context.flags
  if (user !== undefined && (context.flags.channel || context.flags.belowUrgency))
    throw new UsageError('A person’s own quiet hours hold for all channels; leave out --channel and --below-urgency.')
  const window = {
    from,
    to,
    then: context.flags.then,
    ...(days === undefined ? {} : { days: days.toUpperCase().split(',') }),
    ...coverage(context.flags),
  } as QuietWindow
  return tellQuiet(context, await saveQuiet(context, [...(await readQuiet(context)), window]))
}

const coverage = ({ channel, belowUrgency }: CoverFlags) => ({
  ...present({ channels: channel }),
  ...(belowUrgency === undefined ? {} : { belowUrgency: belowUrgency === 'any' ? null : belowUrgency }),
})

function tellQuiet({ flags, io, paint }: Context<UserFlags>, windows: QuietHours): number {
  if (flags.json) printJson(io, { quietHours: windows })
  else if (windows.length === 0)
    io.out(flags.user === undefined ? 'There are no quiet hours.\n' : `${safe(flags.user)} has none of their own.\n`)
  else {
    const rows = windows.map((one) => [
      `${one.from} – ${one.to}`,
      one.days?.join(', ') ?? 'every day',
      one.then === 'wait' ? 'waits' : 'is left out',
      one.channels?.map(safe).join(', ') ?? 'all channels',
      urgencySaid(one.belowUrgency === undefined ? 'high' : one.belowUrgency),
    ])
    io.out(table(['quiet hours', 'begin on', 'what comes', 'for', 'and urgency'], rows, paint.dim))
  }
  return exitCodes.done
}

const urgencySaid = (below: string | null | undefined): string =>
  below === null || below === undefined ? 'of any' : `below ${below}`

function capCommands(program: Command, io: Io, done: Run): void {
  const group = program.command('cap').description('At most so many notifications in so many hours to one person')
  group
    .command('list')
    .description('Show what is in force')
    .addHelpText('after', '\nExample:\n  $ zbell cap list')
    .action(withContext<object, []>(io, done, async (context) => tellCaps(context, await readCaps(context))))
  withCoverage(group.command('set <name>'))
    .description('Set a cap, in place of one of this name')
    .requiredOption('--most <count>', 'at most so many')
    .requiredOption('--hours <count>', 'in so many hours')
    .addHelpText('after', '\nExample:\n  $ zbell cap set offers --most 2 --hours 168 --channel offers')
    .action(withContext<CapFlags, [string]>(io, done, setCap))
  group
    .command('remove <name>')
    .description('Remove a cap')
    .addHelpText('after', '\nExample:\n  $ zbell cap remove offers')
    .action(
      withContext<object, [string]>(io, done, async (context, name) => {
        const caps = await readCaps(context)
        if (!caps.some((one) => one.name === name)) throw new UsageError(`there is no cap ${safe(name)}.`)
        return tellCaps(
          context,
          await saveCaps(
            context,
            caps.filter((one) => one.name !== name),
          ),
        )
      }),
    )
}

const readCaps = async ({ client, app }: Context<object>): Promise<Caps> =>
  (await client.call('readSettings', { params: { app } })).caps

const saveCaps = async ({ client, app }: Context<object>, caps: Caps): Promise<Caps> =>
  (await client.call('changeSettings', { params: { app }, body: { caps } })).caps

async function setCap(context: Context<CapFlags>, name: string): Promise<number> {
  const { most, hours } = context.flags
  const cap = {
    name,
    most: countIn('--most', most),
    hours: countIn('--hours', hours),
    ...coverage(context.flags),
  } as Cap
  const others = (await readCaps(context)).filter((one) => one.name !== name)
  return tellCaps(context, await saveCaps(context, [...others, cap]))
}

function tellCaps({ flags, io, paint }: Context<object>, caps: Caps): number {
  if (flags.json) printJson(io, { caps })
  else if (caps.length === 0) io.out('There are no caps.\n')
  else {
    const rows = caps.map((one) => [
      safe(one.name),
      `${one.most} in ${one.hours} h`,
      one.channels?.map(safe).join(', ') ?? 'all channels',
      urgencySaid(one.belowUrgency),
    ])
    io.out(table(['cap', 'to one person', 'for', 'and urgency'], rows, paint.dim))
  }
  return exitCodes.done
}
