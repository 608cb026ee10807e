import type { Filling, Urgency, Writing } from '@zbell/core'
import { eq, sql } from 'drizzle-orm'
import { build, type Database, notifications, now, select } from '../../database/index.ts'
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
      build
        .update(notifications)
        .set({
          content: edit.content,
          filling: edit.filling,
          tag: edit.content.tag ?? null,
          channelNo: edit.channelNo,
          urgency,
          changedAt: now,
          version: sql`${notifications.version} + 1`,
        })
        .where(eq(notifications.no, no)),
    )
    await changeUrgency(tx, no, urgency)
    return true
  })
}
