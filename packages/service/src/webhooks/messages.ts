import { createHash } from 'node:crypto'
import { batchMediaType, cloudEventOf, eventMediaType, type Origin } from '@zbell/core/webhooks'
import type { Reader } from '../database/index.ts'
import { type OutboxEntry, type Page, unpackPage } from '../events/index.ts'
import type { EventFilter } from './event-filter.ts'
import { readPages } from './store/read-page.ts'

/** An event that is to be told, and the piece of work in which it waits. */
export type Pending = {
  readonly id: string
  readonly kind: string
  readonly text: string
  readonly entry: OutboxEntry
}

/** One request. */
export type Message = {
  /** The same for each attempt (Standard Webhooks, “webhook-id”). */
  readonly id: string
  readonly type: string
  readonly body: string
  readonly events: readonly Pending[]
}

/**
 * Makes events of what waits, as the receiver gets them. Those for which its rule does not hold are left out, once and for all.
 * @param filter applied to events that are told for the first time
 */
export async function eventsOf(
  reader: Reader,
  entries: readonly OutboxEntry[],
  origin: Origin,
  filter: EventFilter,
): Promise<Pending[]> {
  const pages = await Promise.all(entries.map(({ body }) => unpackPage(body)))
  const fresh = pages.filter((page): page is Exclude<Page, { is: 'events' }> => page.is !== 'events')
  const happened = new Map(
    (await readPages(reader, fresh)).map((all, at) => [fresh[at] as Page, all.map((one) => cloudEventOf(one, origin))]),
  )
  const pending: Pending[] = []
  for (const [at, entry] of entries.entries()) {
    const page = pages[at]!
    const events = page.is === 'events' ? page.events : await filter(happened.get(page) ?? [])
    for (const event of events) pending.push({ id: event.id, kind: event.type, text: JSON.stringify(event), entry })
  }
  return pending
}

/** The most characters of a request, unless one event alone has more. */
const messageChars = 1_000_000

/** @param batch the most events of a request; 1: each goes alone (CloudEvents HTTP binding §3.2 and §3.3) */
export function messagesOf(events: readonly Pending[], batch: number): Message[] {
  if (batch === 1)
    return events.map((event) => ({ id: event.id, type: eventMediaType, body: event.text, events: [event] }))
  const messages: Message[] = []
  let some: Pending[] = []
  let chars = 0
  const close = () => {
    if (some.length > 0) messages.push(batchOf(some))
    some = []
    chars = 0
  }
  for (const event of events) {
    if (some.length === batch || chars + event.text.length > messageChars) close()
    some.push(event)
    chars += event.text.length
  }
  close()
  return messages
}

const batchOf = (events: readonly Pending[]): Message => ({
  id: batchId(events.map(({ id }) => id)),
  type: batchMediaType,
  body: `[${events.map(({ text }) => text).join(',')}]`,
  events,
})

/** The same events in one request are the same message. */
const batchId = (ids: readonly string[]): string =>
  `batch-${createHash('sha256').update(ids.join(' ')).digest('hex').slice(0, 32)}`
