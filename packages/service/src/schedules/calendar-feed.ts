import { createHash } from 'node:crypto'
import { setImmediate as nextTurn } from 'node:timers/promises'
import { sayTarget } from '@zbell/contract'
import { sampleTexts, type Writing } from '@zbell/core'
import { calendarFeed, type FeedEvent } from '@zbell/core/feed'
import { LRUCache } from 'lru-cache'
import { type Database, databaseTime, type Scope, whereOf } from '../database/index.ts'
import { scheduledBefore } from '../notifications/index.ts'
import { schedulesBefore } from './store/schedules.ts'

/** What rings first within so long is in it, and so many at most. */
const aheadMs = 366 * 86_400_000
const maxEvents = 1_000

/** A calendar as it was written, and what names it (RFC 9110 §8.8.3). */
type Written = { readonly text: string; readonly etag: string }

/** So long a calendar is written before others have a turn. */
const turnMs = 5
const written = new LRUCache<string, Written>({ maxSize: 16_000_000, sizeCalculation: ({ text }) => text.length })

/** What is upcoming in an app, as an iCalendar. */
export async function calendarOf(database: Database, scope: Scope): Promise<Written> {
  const now = await databaseTime(database)
  const until = new Date(now.getTime() + aheadMs)
  const where = whereOf(scope)
  const of = `${scope.app.slug}.${scope.environment}`
  const events: FeedEvent[] = []
  for (const { name, when, notification, nextAt, paused, changedAt } of await schedulesBefore(
    database,
    where,
    until,
    maxEvents,
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
    await nextTurn()
  }
  for (const one of await scheduledBefore(database, where, until, maxEvents)) {
    if (one.dueAt === null || one.schedule !== null) continue
    const { title, body } = sampleTexts(one.content, one.filling)
    events.push({
      uid: `${one.id}.notification.${of}`,
      summary: title,
      description: body ?? '',
      when: one.readerLocal === null ? { at: one.dueAt.toISOString() } : { local: one.readerLocal, zone: 'reader' },
      changedMs: one.changedAt.getTime(),
      nextMs: one.dueAt.getTime(),
      paused: one.pause === 'paused',
    })
    await nextTurn()
  }
  // What is asked again within the minute, and has not changed, is written already.
  const minuteMs = Math.floor(now.getTime() / 60_000) * 60_000
  const name = createHash('sha256')
    .update(JSON.stringify([scope.app.name, events, minuteMs]))
    .digest('base64url')
  const known = written.get(name)
  if (known !== undefined) return known
  const parts: string[] = []
  let beganMs = performance.now()
  for (const part of calendarFeed(`${scope.app.name}: upcoming`, events, minuteMs)) {
    parts.push(part)
    if (performance.now() - beganMs < turnMs) continue
    // A calendar of thousands is long to write; whoever else waits has a turn meanwhile.
    await nextTurn()
    beganMs = performance.now()
  }
  const text = parts.join('')
  const fresh = { text, etag: `"${createHash('sha256').update(text).digest('base64url')}"` }
  written.set(name, fresh)
  return fresh
}
