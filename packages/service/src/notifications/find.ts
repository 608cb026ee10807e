import { isUuid } from '@zbell/core'
import { Problem } from '../base/index.ts'
import type { Database, Scope } from '../database/index.ts'
import type { Notification } from '../engine/index.ts'
import { findNotification, findNotificationByName } from './store/read-notifications.ts'

/** A notification by its id, or by the name that it was given. @throws {Problem} `unknown-notification` */
export async function requireNotification(database: Database, scope: Scope, id: string): Promise<Notification> {
  const found = isUuid(id)
    ? await findNotification(database, scope, id)
    : await findNotificationByName(database, scope, id.slice(0, 64))
  if (!found) throw new Problem('unknown-notification', forgotten(id))
  return found
}

const dayMs = 86_400_000

/** What links to a notification of long ago may outlive it; an id tells its time (RFC 9562 §5.7). */
function forgotten(id: string): string | undefined {
  if (!isUuid(id) || id[14] !== '7') return undefined
  const madeMs = Number.parseInt(id.replaceAll('-', '').slice(0, 12), 16)
  if (!(Date.now() - madeMs > dayMs)) return undefined
  const day = new Date(madeMs).toISOString().slice(0, 10)
  return `There is no notification with this id, or none any more: it would be of ${day}, and they are kept for as long as retention.notificationDays says.`
}

/** The single notification that waits for its hour under a name. */
export async function findScheduledByName(
  database: Database,
  scope: Scope,
  name: string,
): Promise<Notification | undefined> {
  const found = await findNotificationByName(database, scope, name.slice(0, 64))
  const waits = found?.state === 'scheduled' && found.pause !== 'cancelled' && found.schedule === null
  return waits ? found : undefined
}
