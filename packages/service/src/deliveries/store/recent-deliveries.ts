import { deliveryStateOfCode, reasonOfCode, uuidFromBytes } from '@zbell/core'
import { sql } from 'drizzle-orm'
import type { Database, Scope } from '../../database/index.ts'
import type { RecentDelivery } from '../../devices/index.ts'

/**
 * What the app's last notifications became on one device, newest first. It walks those notifications, each with one look at
 * the deliveries' key: an index by device would cost every delivery of every broadcast.
 * @param among so many notifications are looked at
 */
export async function recentDeliveries(
  database: Database,
  { app, environment }: Scope,
  deviceNo: number,
  among: number,
): Promise<RecentDelivery[]> {
  const rows = await database.rows<{ id: Buffer; title: string | null; state: number; reason: number; at: Date }>(
    sql`select n.id, json_value(n.content, '$.title') as title, d.state, d.reason,
       coalesce(d.opened_at, d.dismissed_at, d.shown_at, d.received_at, d.accepted_at, d.ended_at, n.created_at) as at
     from (select no, id, content, created_at from notifications where app_no = ${app.no} and environment = ${environment}
           order by no desc limit ${among}) n
     join deliveries d on d.notification_no = n.no and d.device_no = ${deviceNo} order by n.no desc`,
  )
  return rows.map((row) => ({
    notification: uuidFromBytes(row.id),
    title: row.title ?? '',
    state: deliveryStateOfCode(row.state),
    reason: row.reason === 0 ? null : reasonOfCode(row.reason),
    at: row.at,
  }))
}
