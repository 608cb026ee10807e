import { deliveryStates } from '@zbell/core'
import { sql } from 'drizzle-orm'
import type { Database } from '../../database/index.ts'
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
  const [row] = await database.rows<{ at: Date }>(
    sql`select coalesce(d.shown_at, d.received_at) as at from notifications n
     join deliveries d on d.notification_no = n.no and d.device_no = ${deviceNo}
     where n.app_no = ${notification.appNo} and n.environment = ${notification.environment} and n.tag = ${tag} and n.no > ${notification.no}
       and d.state between ${deliveryStates.received} and ${deliveryStates.opened} order by n.no limit 1`,
  )
  return row?.at.getTime() ?? null
}
