import { deliveryStates, reasons } from '@zbell/core'
import type { Database, Tx } from '../database.ts'
import { CountChanges } from './counts.ts'

/** So many deliveries are marked in one transaction. */
const together = 10_000
const takenBack = reasons['taken-back'].code

/** Marks as withdrawn what went to a device and was not opened or put away there; again does no harm. */
export async function withdrawDeliveries(database: Database, notificationNo: number): Promise<void> {
  await database.change(
    'update notifications set withdrawn_at = coalesce(withdrawn_at, utc_timestamp(3)) where no = ?',
    [notificationNo],
  )
  for (let after = 0; ; ) {
    const last = await database.transact((tx) => withdrawSome(tx, notificationNo, after))
    if (last === undefined) return
    after = last
  }
}

async function withdrawSome(tx: Tx, notificationNo: number, after: number): Promise<number | undefined> {
  await tx.change('update notifications set changed_at = utc_timestamp(3), version = version + 1 where no = ?', [
    notificationNo,
  ])
  const rows = await tx.rows<{ no: number; platform: number; state: number; reason: number }>(
    `select device_no as no, platform, state, reason from deliveries
     where notification_no = ? and device_no > ? and state between ${deliveryStates.accepted} and ${deliveryStates.shown}
     order by device_no limit ${together}`,
    [notificationNo, after],
  )
  const last = rows.at(-1)?.no
  if (last === undefined) return undefined
  await tx.change(
    `update deliveries set state = ${deliveryStates.withdrawn}, reason = ${takenBack}, ended_at = utc_timestamp(3)
     where notification_no = ? and device_no > ? and device_no <= ?
       and state between ${deliveryStates.accepted} and ${deliveryStates.shown}`,
    [notificationNo, after, last],
  )
  const counts = new CountChanges()
  for (const { platform, state, reason } of rows) {
    counts.addCodes(platform, state, reason, -1)
    counts.addCodes(platform, deliveryStates.withdrawn, takenBack, 1)
  }
  await counts.store(tx, notificationNo)
  return last
}
