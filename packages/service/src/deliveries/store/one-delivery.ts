import { deliveryStates } from '@zbell/core'
import { sql } from 'drizzle-orm'
import { computed, type Database, deliveries as deliveriesTable, notifications, select } from '../../database/index.ts'
import { type DeliveryRow, listDeliveries } from './list-deliveries.ts'

/** What became of one device; `undefined` for one that the notification was not for. */
export async function deliveryOf(
  database: Database,
  notification: { readonly no: number; readonly createdAt: Date },
  deviceNo: number,
): Promise<DeliveryRow | undefined> {
  const look = async () => (await listDeliveries(database, notification, { limit: 1, deviceNo }))[0]
  // One that leaves the queue between the looks at outcomes and at the queue is in neither; then it is in the first.
  return (await look()) ?? look()
}

/** When a later notification of the same tag was shown on a device, in ms since 1970. */
export async function laterOfTag(
  database: Database,
  notification: { readonly no: number; readonly appNo: number; readonly environment: string },
  tag: string,
  deviceNo: number,
): Promise<number | null> {
  const [row] = await select(
    database,
    {
      at: computed<Date>(sql`coalesce(${deliveriesTable.shownAt}, ${deliveriesTable.receivedAt})`),
    },
    sql`from ${notifications} join ${deliveriesTable} on ${deliveriesTable.notificationNo} = ${notifications.no}
        and ${deliveriesTable.deviceNo} = ${deviceNo} where ${notifications.appNo} = ${notification.appNo}
        and ${notifications.environment} = ${notification.environment} and ${notifications.tag} = ${tag}
        and ${notifications.no} > ${notification.no} and ${deliveriesTable.state} between ${deliveryStates.received}
        and ${deliveryStates.opened} order by ${notifications.no} limit 1`,
  )
  return row?.at.getTime() ?? null
}
