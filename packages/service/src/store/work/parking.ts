import type { Tx } from '../database.ts'

/**
 * The work of a paused notification is parked a thousand years ahead, so that no claim finds it and its own due time is
 * not lost.
 */
export const parkedYears = 1_000
const ahead = `interval ${parkedYears} year`
const isParked = "available_at >= '3000-01-01'"

/** Work that this process holds. @returns false when the lease was lost */
export async function parkClaimed(tx: Tx, claim: { readonly no: number; readonly fence: number }): Promise<boolean> {
  const { affectedRows } = await tx.change(
    `update work set leased = false, available_at = utc_timestamp(3) + ${ahead} where no = ? and fence = ?`,
    [claim.no, claim.fence],
  )
  return affectedRows === 1
}

/** All work of a notification that nobody holds. */
export async function parkWaiting(tx: Tx, notificationNo: number): Promise<void> {
  await tx.change(
    `update work set available_at = if(${isParked}, available_at, available_at + ${ahead})
     where notification_no = ? and not leased`,
    [notificationNo],
  )
}

/** Lets parked work be due when it was. */
export async function unpark(tx: Tx, notificationNo: number): Promise<void> {
  await tx.change(
    `update work set available_at = if(${isParked}, available_at - ${ahead}, available_at)
     where notification_no = ? and not leased`,
    [notificationNo],
  )
}

/** Makes all that nobody holds due at once. */
export async function makeDue(tx: Tx, notificationNo: number): Promise<void> {
  await tx.change('update work set available_at = utc_timestamp(3) where notification_no = ? and not leased', [
    notificationNo,
  ])
}
