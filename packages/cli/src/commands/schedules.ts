import type { NotificationRequest, Schedule } from '@zbell/contract'
import { sayWhen } from '@zbell/contract/words'
import type { Command } from 'commander'
import { table } from '../drawing/table.ts'
import { cut, safe } from '../drawing/text.ts'
import { moment } from '../drawing/time.ts'
import { exitCodes, UsageError } from '../exit-codes.ts'
import type { Io } from '../io.ts'
import { type Context, printJson, type Run, withContext } from './context.ts'
import { readObjectFile } from './notification-file.ts'
import { listVerb } from './verbs.ts'
import { sayUnderstood, type WhenFlags, whenIn, withWhen } from './when-flags.ts'

type SaveFlags = WhenFlags & { readonly file: string; readonly grace?: string; readonly to?: string[] }
type PageFlags = { readonly limit: string; readonly after?: string }

/** What rings at its times, by name. */
export function scheduleCommands(program: Command, io: Io, done: Run): void {
  const group = program.command('schedule').description('What rings at its times, by name')
  const one = (name: string, says: string, run: (context: Context<object>, schedule: string) => Promise<number>) =>
    group
      .command(`${name} <name>`)
      .description(says)
      .addHelpText('after', `\nExample:\n  $ zbell schedule ${name} evening`)
      .action(withContext<object, [string]>(io, done, run))
  listVerb(group, { io, done, noun: 'schedule' }, 'Schedules, each with its next time', {
    read: ({ client, app }) => client.all('listSchedules', { params: { app } }),
    none: (zbell) =>
      `There is no schedule yet. Try: ${zbell} schedule save evening --file evening.yaml --at 18:00 --repeat FREQ=DAILY`,
    head: ['schedule', 'next', 'rings', 'shows'],
    row: (one, io) => [one.name, nextOf(one, io), safe(sayWhen(one.when)), safe(cut(one.shows.title, 40))],
  })
  one('show', 'One schedule', show)
  withWhen(group.command('save <name>'))
    .description('Save a schedule of a notification file; a change holds from its next run on')
    .requiredOption('--file <path>', 'the notification, in YAML or JSON')
    .option('--to <reference...>', 'who, in place of what the file says')
    .option('--also <time...>', 'rings then, too: "2026-12-31 18:00", or a day for the usual hour')
    .option('--except <time...>', 'does not ring then: "2026-12-24 18:00", or a day for all of its times')
    .option('--grace <seconds>', 'so late it is still rung when nothing ran at its time')
    .addHelpText(
      'after',
      `\nExample:\n  $ zbell schedule save evening --file evening.yaml --at 18:00 --zone Europe/Oslo --repeat "FREQ=WEEKLY;BYDAY=MO,TU"`,
    )
    .action(withContext<SaveFlags, [string]>(io, done, save))
  group
    .command('next <name>')
    .description('The next times of a schedule')
    .option('--count <count>', 'so many', '10')
    .addHelpText('after', '\nExample:\n  $ zbell schedule next evening --count 5')
    .action(withContext<{ readonly count: string }, [string]>(io, done, next))
  one('pause', 'Let a schedule rest', (context, name) => change(context, name, true))
  one('resume', 'Let it go on with its next time', (context, name) => change(context, name, false))
  one('skip', 'Leave out its next time', skip)
  one('run', 'Ring it now, beside its times', run)
  one('cancel', 'Cancel a schedule, or the single notification that waits under this name', cancel)
  group
    .command('cancel-all')
    .description('Cancel all schedules of the environment')
    .option('--yes', 'without asking')
    .addHelpText('after', '\nExample:\n  $ zbell schedule cancel-all')
    .action(withContext<{ readonly yes?: boolean }, []>(io, done, cancelAll))
  group
    .command('runs <name>')
    .description('The results of its times, newest first')
    .option('--limit <count>', 'at most so many, up to 200', '20')
    .option('--after <place>', 'go on where the page before ended')
    .addHelpText('after', '\nExample:\n  $ zbell schedule runs evening')
    .action(withContext<PageFlags, [string]>(io, done, runs))
  group
    .command('upcoming')
    .description('What rings within the next days, soonest first')
    .option('--days <count>', 'so many days', '14')
    .addHelpText('after', '\nExample:\n  $ zbell schedule upcoming --days 3')
    .action(withContext<{ readonly days: string }, []>(io, done, upcoming))
}

const nextOf = ({ paused, nextAt }: Schedule, io: Io): string =>
  paused ? 'paused' : nextAt === null ? 'over' : moment(nextAt, io)

async function show({ client, app, flags, io }: Context<object>, schedule: string): Promise<number> {
  const found = await client.call('readSchedule', { params: { app, schedule } })
  if (flags.json) printJson(io, found)
  else io.out(told(found, io))
  return exitCodes.done
}

const told = (one: Schedule, io: Io): string =>
  `${one.name}: ${safe(one.shows.title)}\n  rings  ${safe(sayWhen(one.when))}\n  next   ${nextOf(one, io)}\n${one.skipped.map((at) => `  not    ${moment(at, io)}, left out by hand\n`).join('')}  by     ${safe(one.madeBy)}, version ${one.version}\n`

async function save(context: Context<SaveFlags>, schedule: string): Promise<number> {
  const { client, app, flags, io } = context
  const when = whenIn(flags, io.timeZone)
  if (when === undefined)
    throw new UsageError('Say when: --at TIME or --in SPAN, and --repeat RULE for again and again.')
  const read = readObjectFile(flags.file) as Partial<NotificationRequest>
  const isContent = !('to' in read) && !('content' in read)
  const { to, ...rest } = isContent ? { content: read as NotificationRequest['content'], to: undefined } : read
  const target = flags.to ? { any: flags.to } : to
  if (target === undefined) throw new UsageError('Say who is meant: --to, or `to` in the file.')
  if (!flags.json) await sayUnderstood(context, when)
  const saved = await client.call('saveSchedule', {
    params: { app, schedule },
    body: {
      when,
      notification: { ...rest, to: target } as NotificationRequest,
      ...(flags.grace === undefined ? {} : { graceSeconds: wholeOf('--grace', flags.grace) }),
    },
  })
  if (flags.json) printJson(io, saved)
  else io.out(`Saved as ${saved.name}, version ${saved.version}.\n`)
  return exitCodes.done
}

function wholeOf(flag: string, text: string): number {
  if (!/^\d{1,9}$/.test(text)) throw new UsageError(`${flag} wants a whole number, not ${text.slice(0, 40)}.`)
  return Number(text)
}

async function next(context: Context<{ readonly count: string }>, schedule: string): Promise<number> {
  const { client, app, flags, io } = context
  const { when, nextAt, paused, skipped } = await client.call('readSchedule', { params: { app, schedule } })
  const count = wholeOf('--count', flags.count)
  // What lies before its next time was left out.
  const from = nextAt === null ? {} : { from: nextAt }
  const isOver = nextAt === null && !paused
  const { times } = isOver
    ? { times: [] }
    : await client.call('previewSchedule', { params: { app }, body: { when, count, ...from } })
  const rings = times.filter((one) => !skipped.some((at) => Date.parse(at) === Date.parse(one)))
  if (flags.json) printJson(io, { times: rings })
  else if (rings.length === 0) io.out('It is over.\n')
  else {
    if (paused) io.out('It is paused; when it goes on, it rings\n')
    io.out(rings.map((one) => `${moment(one, io)}\n`).join(''))
    for (const at of skipped) io.out(`not ${moment(at, io)}, left out by hand\n`)
  }
  return exitCodes.done
}

async function change({ client, app, flags, io }: Context<object>, schedule: string, paused: boolean): Promise<number> {
  const changed = await client.call('changeSchedule', { params: { app, schedule }, body: { paused } })
  if (flags.json) printJson(io, changed)
  else io.out(paused ? `${changed.name} rests.\n` : `${changed.name} goes on: ${nextOf(changed, io)}.\n`)
  return exitCodes.done
}

async function skip({ client, app, flags, io }: Context<object>, schedule: string): Promise<number> {
  const changed = await client.call('skipRun', { params: { app, schedule } })
  if (flags.json) printJson(io, changed)
  else io.out(`Left out. ${changed.name} rings next: ${nextOf(changed, io)}.\n`)
  return exitCodes.done
}

async function run({ client, app, flags, io }: Context<object>, schedule: string): Promise<number> {
  const rung = await client.call('runSchedule', { params: { app, schedule } })
  if (flags.json) printJson(io, rung)
  else io.out(`${rung.notification}\n`)
  return exitCodes.done
}

async function cancel({ client, app, io }: Context<object>, schedule: string): Promise<number> {
  await client.call('deleteSchedule', { params: { app, schedule } })
  io.out(`${schedule} is cancelled.\n`)
  return exitCodes.done
}

async function cancelAll({ client, app, flags, io }: Context<{ readonly yes?: boolean }>): Promise<number> {
  const count = (await client.all('listSchedules', { params: { app } })).length
  if (count === 0) {
    io.out('There is no schedule to cancel.\n')
    return exitCodes.done
  }
  if (!flags.yes) {
    if (!io.ask) throw new UsageError(`This would cancel ${count} schedules, and nobody is here to ask; add --yes.`)
    const answer = await io.ask(`Type their number, ${count}, to cancel all: `)
    if (answer.trim() !== String(count)) {
      io.err('Nothing is cancelled.\n')
      return exitCodes.notAllowed
    }
  }
  const { cancelled } = await client.call('cancelSchedules', { params: { app }, body: { count } })
  if (flags.json) printJson(io, { cancelled })
  else io.out(`${cancelled} ${cancelled === 1 ? 'schedule is' : 'schedules are'} cancelled.\n`)
  return exitCodes.done
}

async function runs({ client, app, flags, io, paint }: Context<PageFlags>, schedule: string): Promise<number> {
  const { limit, after } = flags
  const page = await client.call('listRuns', { params: { app, schedule }, query: { limit, after } })
  if (flags.json) printJson(io, page)
  else if (page.items.length === 0) io.out('It has not rung yet.\n')
  else {
    io.out(
      table(
        ['due', 'became', 'notification', ''],
        page.items.map(({ dueAt, state, notification, says }) => [
          moment(dueAt, io),
          state,
          notification ?? '',
          safe(says ?? ''),
        ]),
        paint.dim,
      ),
    )
    if (page.next !== null) io.out(paint.dim(`more: --after ${page.next}\n`))
  }
  return exitCodes.done
}

async function upcoming({ client, app, flags, io, paint }: Context<{ readonly days: string }>): Promise<number> {
  const days = wholeOf('--days', flags.days)
  const found = await client.call('listUpcoming', { params: { app }, query: { days, reach: 'true' } })
  if (flags.json) printJson(io, found)
  else if (found.items.length === 0) io.out(`Nothing rings within ${days} days.\n`)
  else {
    io.out(
      table(
        ['when', 'name', 'shows', 'would ring'],
        found.items.map(({ dueAt, name, notification, shows, paused, readersHour, reach }) => [
          `${moment(dueAt, io)}${readersHour === null ? '' : `, ${readersHour.slice(11, 16)} each reader’s clock`}${paused ? ' (paused)' : ''}`,
          safe(name ?? notification ?? ''),
          safe(cut(shows.title || '(wakes the app)', 50)),
          reach === null ? '–' : `${reach.estimated ? 'about ' : ''}${reach.devices.toLocaleString('en')}`,
        ]),
        paint.dim,
      ),
    )
    if (found.cut) io.out(paint.dim('and more; ask for fewer days\n'))
  }
  return exitCodes.done
}
