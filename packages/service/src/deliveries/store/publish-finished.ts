import { type Environment, uuidFromBytes } from '@zbell/core'
import { sql } from 'drizzle-orm'
import type { Tx } from '../../database/index.ts'
import { pauseCodes } from '../../engine/index.ts'
import { publish } from '../../events/index.ts'
import { countDeliveries } from './counts.ts'

/** A notification has come to its end. */
export async function publishFinished(tx: Tx, notificationNo: number): Promise<void> {
  const [row] = await tx.rows<{
    id: Buffer
    appNo: number
    environment: Environment
    sentBy: string
    pause: number
    expanded: number
  }>(
    sql`select id, app_no as appNo, environment, sent_by as sentBy, pause, expanded from notifications
        where no = ${notificationNo}`,
  )
  if (!row) return
  await publish(tx, row, ['notification.finished'], async () => {
    const notification = uuidFromBytes(row.id)
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
