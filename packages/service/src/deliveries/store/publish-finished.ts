import { type Environment, uuidFromBytes } from '@zbell/core'
import { sql } from 'drizzle-orm'
import type { Tx } from '../../database/index.ts'
import { holds } from '../../engine/index.ts'
import { tell } from '../../events/index.ts'
import { countDeliveries } from './counts.ts'

/** A notification has come to its end. */
export async function tellFinished(tx: Tx, notificationNo: number): Promise<void> {
  const [row] = await tx.rows<{
    id: Buffer
    appNo: number
    environment: Environment
    sentBy: string
    hold: number
    expanded: number
  }>(
    sql`select id, app_no as appNo, environment, sent_by as sentBy, hold, expanded from notifications
        where no = ${notificationNo}`,
  )
  if (!row) return
  await tell(tx, row, ['notification.finished'], async () => {
    const notification = uuidFromBytes(row.id)
    const { states } = await countDeliveries(tx, notificationNo)
    const data = {
      notification,
      sentBy: row.sentBy,
      outcome: row.hold === holds.cancelled ? 'cancelled' : 'done',
      devices: row.expanded,
      states: Object.fromEntries(states),
    }
    return [{ kind: 'notification.finished', subject: notification, data }]
  })
}
