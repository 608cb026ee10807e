import { deliveryStates, reasons } from '@zbell/core'
import { sql } from 'drizzle-orm'
import type { Claim, Withdrawal } from '../../engine/work.ts'
import type { Scope } from '../apps/apps.ts'
import type { Database, Tx } from '../database.ts'
import { CountChanges } from '../deliveries/counts.ts'
import { DayCounts } from '../deliveries/day-counts.ts'
import { finishIfDone } from '../deliveries/store-outcomes.ts'
import { enqueue } from '../queue/enqueue.ts'
import { extend, finish } from '../queue/hold.ts'
import { type Lifetime, type NewNotification, notificationStatements, urgencyCode } from './create-notification.ts'
import { holdIn } from './hold.ts'

/** So many deliveries are marked in one transaction. */
const together = 10_000
const takenBack = reasons['taken-back'].code
const markable = sql`state between ${deliveryStates.accepted} and ${deliveryStates.shown}`

/**
 * Takes a notification back, in one transaction: what of it still waits ends, its deliveries will be marked by whoever claims
 * the work, and devices that have it are woken to remove it.
 * @param wake reaches them
 */
export async function withdrawNotification(
  database: Database,
  scope: Scope,
  notification: { readonly no: number },
  wake: NewNotification,
): Promise<Lifetime> {
  return database.transact(async (tx) => {
    // What is still in the queue shall not come after it was taken back.
    await holdIn(tx, notification.no, 'cancelled')
    await tx.change(
      sql`update notifications set withdrawn_at = coalesce(withdrawn_at, utc_timestamp(3)), changed_at = utc_timestamp(3),
         version = version + 1 where no = ${notification.no}`,
    )
    const { app, environment } = scope
    await enqueue(tx, notification.no, [{ kind: 'withdraw', appNo: app.no, environment, urgency: urgencyCode('high') }])
    const first = { devices: undefined, state: 'expanding', heldMs: 0 } as const
    for (const statement of notificationStatements(scope, wake, first)) await tx.change(statement)
    const [stored] = await tx.rows<Lifetime>(
      sql`select created_at as createdAt, due_at as dueAt, expires_at as expiresAt from notifications where no = @notification`,
    )
    if (!stored) throw new Error('a notification that was just stored is not there')
    return stored
  })
}

/**
 * Marks a page of deliveries as withdrawn: what went to a device and was not opened or put away there. A claim that died
 * on the way is followed by one that begins anew, which finds what is left.
 */
export async function withdrawPage(
  database: Database,
  claim: Claim,
  after: number,
  leaseMs: number,
): Promise<Withdrawal> {
  return database.transact(async (tx) => {
    await tx.change(
      sql`update notifications set changed_at = utc_timestamp(3), version = version + 1 where no = ${claim.notificationNo}`,
    )
    const rows = await tx.rows<{ no: number; platform: number; state: number; reason: number }>(
      sql`select device_no as no, platform, state, reason from deliveries
       where notification_no = ${claim.notificationNo} and device_no > ${after} and ${markable} order by device_no limit ${together}`,
    )
    const more = rows.length === together
    if (!(await (more ? extend(tx, claim, leaseMs) : finish(tx, claim)))) return { is: 'lost' }
    const last = rows.at(-1)?.no
    if (last !== undefined) await mark(tx, claim, rows, after, last)
    if (more) return { is: 'more', after: last! }
    await finishIfDone(tx, claim.notificationNo)
    return { is: 'done' }
  })
}

async function mark(
  tx: Tx,
  claim: Claim,
  rows: readonly { readonly platform: number; readonly state: number; readonly reason: number }[],
  after: number,
  last: number,
): Promise<void> {
  const { notificationNo } = claim
  await tx.change(
    sql`update deliveries set state = ${deliveryStates.withdrawn}, reason = ${takenBack}, ended_at = utc_timestamp(3)
     where notification_no = ${notificationNo} and device_no > ${after} and device_no <= ${last} and ${markable}`,
  )
  const counts = new CountChanges()
  const days = new DayCounts()
  for (const { platform, state, reason } of rows) {
    counts.addCodes(platform, state, reason, -1)
    counts.addCodes(platform, deliveryStates.withdrawn, takenBack, 1)
    days.add(platform, 'withdrawn', takenBack, 0)
  }
  await counts.store(tx, notificationNo)
  await days.store(tx, claim)
}
