import { setImmediate as nextTurn } from 'node:timers/promises'
import { sayTarget } from '@zbell/contract'
import { sampleTexts, type Writing } from '@zbell/core'
import { calendarFeed, type FeedEvent } from '@zbell/core/feed'
import type { Scope } from '../store/apps/apps.ts'
import { whereOf } from '../store/apps/where.ts'
import type { Database } from '../store/database.ts'
import { databaseTime } from '../store/database-time.ts'
import { scheduledBefore } from '../store/notifications/read-scheduled.ts'
import { schedulesBefore } from '../store/schedules/schedules.ts'

/** What rings first within so long is in it, and so many at most. */
const aheadMs = 366 * 86_400_000
const mostEvents = 1_000

/** What is upcoming in an app, as an iCalendar. */
export async function calendarOf(database: Database, scope: Scope): Promise<string> {
  const now = await databaseTime(database)
  const until = new Date(now.getTime() + aheadMs)
  const where = whereOf(scope)
  const of = `${scope.app.slug}.${scope.environment}`
  const events: FeedEvent[] = []
  for (const { name, when, notification, nextAt, paused, changedAt } of await schedulesBefore(
    database,
    where,
    until,
    mostEvents,
  )) {
    if (nextAt === null) continue
    const { title, body } =
      notification.template === undefined
        ? sampleTexts(notification.content as Writing, { values: notification.values ?? {} })
        : { title: notification.template, body: null }
    const description = [body, `Schedule ${name}, to ${sayTarget(notification.to).slice(0, 300)}.`]
    events.push({
      uid: `${name}.schedule.${of}`,
      summary: title,
      description: description.filter((text) => text !== null).join('\n'),
      when,
      changedMs: changedAt.getTime(),
      nextMs: nextAt.getTime(),
      paused,
    })
    // A calendar of thousands is long to write; whoever else waits has a turn meanwhile.
    await nextTurn()
  }
  for (const one of await scheduledBefore(database, where, until, mostEvents)) {
    if (one.dueAt === null || one.schedule !== null) continue
    const { title, body } = sampleTexts(one.content, one.filling)
    events.push({
      uid: `${one.id}.notification.${of}`,
      summary: title,
      description: body ?? '',
      when: one.readerLocal === null ? { at: one.dueAt.toISOString() } : { local: one.readerLocal, zone: 'reader' },
      changedMs: one.changedAt.getTime(),
      nextMs: one.dueAt.getTime(),
      paused: one.hold === 'paused',
    })
  }
  return calendarFeed(`${scope.app.name}: upcoming`, events, now.getTime())
}
