import { sayTarget } from '@zbell/contract/words'
import type { Command } from 'commander'
import { called } from '../called.ts'
import { paintState } from '../drawing/paint.ts'
import { table } from '../drawing/table.ts'
import { cut, safe } from '../drawing/text.ts'
import { clock, moment } from '../drawing/time.ts'
import type { Io } from '../io.ts'
import { type Context, printJson, type Run, withContext } from './context.ts'
import { reasonsOf, summary, watchToEnd } from './watching.ts'

type ListFlags = {
  readonly limit: string
  readonly after?: string
  readonly search?: string
  readonly user?: string
  readonly reason?: string
  readonly channel?: string
}

export function notificationCommands(program: Command, io: Io, done: Run): void {
  const group = program.command('notification').description('Show what was sent')
  group
    .command('list')
    .description('Notifications, newest first')
    .option('--limit <count>', 'at most so many, up to 200', '20')
    .option('--after <place>', 'go on where the page before ended')
    .option('--search <text>', 'only those whose texts or name have this in them')
    .option('--user <name>', 'only those with a delivery for this person')
    .option('--channel <channel>', 'only those of this channel')
    .option('--reason <code>', 'only those with a delivery that ended so')
    .addHelpText('after', '\nExample:\n  $ zbell notification list --limit 5')
    .action(withContext<ListFlags, []>(io, done, list))
  group
    .command('show <id>')
    .description('One notification, with what became of each device')
    .option('--limit <count>', 'at most so many devices, up to 200', '50')
    .addHelpText('after', '\nExample:\n  $ zbell notification show 01980c2e-7c1a-7d34-9f0b-5a3c6f1d2e4b')
    .action(withContext<ListFlags, [string]>(io, done, show))
  group
    .command('watch <id>')
    .description('Follow a notification until every device has come to an end')
    .addHelpText('after', '\nExample:\n  $ zbell notification watch 01980c2e-7c1a-7d34-9f0b-5a3c6f1d2e4b')
    .action(withContext<object, [string]>(io, done, watchToEnd))
}

async function list({ client, app, flags, io, paint }: Context<ListFlags>): Promise<number> {
  const page = await client.call('listNotifications', {
    params: { app },
    query: {
      limit: flags.limit,
      after: flags.after,
      search: flags.search,
      user: flags.user,
      reason: flags.reason,
      channel: flags.channel,
    },
  })
  if (flags.json) printJson(io, page)
  else if (page.items.length === 0)
    io.out(`Nothing was sent yet. Try: ${called(io)} send --to user:ada --title "Boarding is open"\n`)
  else {
    const rows = page.items.map((one) => [
      one.id,
      moment(one.createdAt, io),
      one.state,
      `${one.totals.expanded}`,
      `${one.totals.shown + one.totals.opened + one.totals.dismissed}`,
      cut(safe(one.shows.title || `(${one.mode})`), 44),
    ])
    io.out(table(['id', 'sent', 'state', 'devices', 'shown', 'title'], rows, paint.dim))
    if (page.next) io.out(paint.dim(`More: --after ${page.next}\n`))
  }
  return 0
}

async function show({ client, app, flags, io, paint }: Context<ListFlags>, id: string): Promise<number> {
  const params = { app, id }
  const notification = await client.call('readNotification', { params })
  const deliveries = await client.call('listDeliveries', { params, query: { limit: flags.limit } })
  if (flags.json) {
    printJson(io, { ...notification, deliveries: deliveries.items })
    return 0
  }
  const { shows } = notification
  io.out(`${paint.strong(safe(shows.title || '(wakes the app, shows nothing)'))}\n`)
  if (shows.body) io.out(`${safe(shows.body)}\n`)
  io.out(
    `\n${table(
      ['', ''],
      [
        ['id', notification.id],
        ['to', cut(safe(sayTarget(notification.to)), 80)],
        [
          'sent',
          `${moment(notification.createdAt, io)} by ${safe(notification.sentBy)}, in ${notification.environment}`,
        ],
        [
          'state',
          `${notification.state}, urgency ${notification.urgency}, lives until ${moment(notification.expiresAt, io)}`,
        ],
      ],
      paint.dim,
    ).trimStart()}\n`,
  )
  const rows = deliveries.items.map((one) => [
    one.device,
    safe(one.user ?? 'anonymous'),
    one.platform,
    paintState(one.state, paint),
    one.reason
      ? one.reason.code
      : one.timeline
          .map(
            ({ state, at, notedAt }) => `${state} ${clock(at, io)}${notedAt ? ` (noted ${clock(notedAt, io)})` : ''}`,
          )
          .join(' · '),
  ])
  if (rows.length > 0) io.out(`${table(['device', 'user', 'platform', 'state', 'progress'], rows, paint.dim)}\n`)
  if (deliveries.next) io.out(paint.dim(`The first ${rows.length}; --limit shows up to 200.\n`))
  io.out(`${summary(notification)}\n${reasonsOf(notification, paint.dim)}`)
  return 0
}
