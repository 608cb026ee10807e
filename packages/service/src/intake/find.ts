import { isUuid } from '@zbell/core'
import type { Notification } from '../engine/notification.ts'
import { Problem } from '../problems/problem.ts'
import type { Scope } from '../store/apps/apps.ts'
import type { Database } from '../store/database.ts'
import { findNotification, findNotificationByName } from '../store/notifications/read-notifications.ts'

/** A notification by its id, or by the name that it was given. @throws {Problem} `unknown-notification` */
export async function needNotification(database: Database, scope: Scope, id: string): Promise<Notification> {
  const found = isUuid(id)
    ? await findNotification(database, scope, id)
    : await findNotificationByName(database, scope, id.slice(0, 64))
  if (!found) throw new Problem('unknown-notification')
  return found
}

/** The single notification that waits for its hour under a name. */
export async function findScheduledByName(
  database: Database,
  scope: Scope,
  name: string,
): Promise<Notification | undefined> {
  const found = await findNotificationByName(database, scope, name.slice(0, 64))
  const waits = found?.state === 'scheduled' && found.hold !== 'cancelled' && found.schedule === null
  return waits ? found : undefined
}
