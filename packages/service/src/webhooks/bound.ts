import { maxDispatchMs } from '@zbell/core/webhooks'
import type { Database } from '../database/index.ts'
import { countOutbox, overdueEntries, pruneOldest, pruneOutboxOf } from '../events/index.ts'
import { noteDropped } from './store/log.ts'
import { webhookNames } from './store/webhooks.ts'

/** How much waits for a webhook. */
export type OutboxBacklog = {
  readonly app: string
  readonly environment: string
  readonly webhook: string
  readonly events: number
}

/** What was not told within three days had its last attempt by then; what could not have one goes a while later. */
const overdueMs = maxDispatchMs + 3_600_000

/**
 * Keeps what waits within its bounds: beyond so many events the oldest go, and the log says so.
 */
export async function boundWebhooks(
  given: {
    readonly database: Database
    readonly maxWaiting: number
    readonly onWaiting: (waiting: readonly OutboxBacklog[]) => void
  },
  mayGoOn: () => boolean,
): Promise<void> {
  const { database, maxWaiting, onWaiting } = given
  const counts = await countOutbox(database)
  const names = await webhookNames(database)
  onWaiting([...names].map(([no, name]) => ({ ...name, events: counts.get(no) ?? 0 })))
  for (const [no, events] of counts) {
    if (!mayGoOn()) return
    if (!names.has(no)) await pruneOutboxOf(database, no)
    else if (events > maxWaiting) {
      const says = `more than ${maxWaiting.toLocaleString('en')} events waited; the oldest went`
      await pruneOldest(database, no, events - maxWaiting, (tx, gone) => noteDropped(tx, no, gone, says))
    }
  }
}

/** What has waited for longer than anybody tries, for a webhook that is switched off, goes, and its log says so. */
export async function pruneOverdue(database: Database, mayGoOn: () => boolean): Promise<void> {
  for (const { no, events } of await overdueEntries(database, overdueMs)) {
    if (!mayGoOn()) return
    const says = 'it waited for three days, and could not be told'
    await pruneOldest(database, no, events, (tx, gone) => noteDropped(tx, no, gone, says))
  }
}
