import { type Filling, type Urgency, type Writing, wellFormedJson } from '@zbell/core'
import { sql } from 'drizzle-orm'
import { type Database, notifications, select } from '../../database/index.ts'
import { pauseCodes } from '../../engine/index.ts'
import { changeUrgency, hasWork } from '../../queue/index.ts'
import { urgencyCode } from './store-notification.ts'

export type Edit = {
  readonly content: Writing
  readonly filling: Filling
  readonly urgency: Urgency
  readonly channelNo: number | null
}

/** Changes one that is paused or waits for its hour. @returns false when something of it has gone, or it is neither */
export async function editNotification(database: Database, no: number, edit: Edit): Promise<boolean> {
  return database.transact(async (tx) => {
    const [row] = await select(
      tx,
      { pause: notifications.pause, state: notifications.state },
      sql`from ${notifications} where ${notifications.no} = ${no} for update`,
    )
    const waits = row?.pause === pauseCodes.paused || (row?.pause === pauseCodes.none && row.state === 'scheduled')
    if (!waits) return false
    const [gone] = await tx.rows(sql`select 1 from deliveries where notification_no = ${no} limit 1`)
    if (gone || (await hasWork(tx, no, 'held'))) return false
    const urgency = urgencyCode(edit.urgency)
    await tx.change(
      sql`update notifications set content = ${wellFormedJson(edit.content)}, filling = ${wellFormedJson(edit.filling)}, tag = ${edit.content.tag ?? null}, channel_no = ${edit.channelNo}, urgency = ${urgency}, changed_at = utc_timestamp(3),
         version = version + 1 where no = ${no}`,
    )
    await changeUrgency(tx, no, urgency)
    return true
  })
}
