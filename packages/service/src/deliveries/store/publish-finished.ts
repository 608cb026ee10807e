import { sql } from 'drizzle-orm'
import { notifications, select, type Tx } from '../../database/index.ts'
import { pauseCodes } from '../../engine/index.ts'
import { publish } from '../../events/index.ts'
import { countDeliveries } from './counts.ts'

/** A notification has come to its end. */
export async function publishFinished(tx: Tx, notificationNo: number): Promise<void> {
  const [row] = await select(
    tx,
    {
      id: notifications.id,
      appNo: notifications.appNo,
      environment: notifications.environment,
      sentBy: notifications.sentBy,
      pause: notifications.pause,
      expanded: notifications.expanded,
    },
    sql`from ${notifications}
        where ${notifications.no} = ${notificationNo}`,
  )
  if (!row) return
  await publish(tx, row, ['notification.finished'], async () => {
    const notification = row.id
    const { states } = await countDeliveries(tx, notificationNo)
    const data = {
      notification,
      sentBy: row.sentBy,
      outcome: row.pause === pauseCodes.cancelled ? 'cancelled' : 'done',
      devices: row.expanded,
      states: Object.fromEntries(states),
    }
    return [{ kind: 'notification.finished', subject: notification, data }]
  })
}
