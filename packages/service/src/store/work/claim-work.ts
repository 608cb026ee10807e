import { type Environment, type Reason, reasonOfCode, reasons, unpackBlock } from '@zbell/core'
import type { Database } from '../database.ts'

/** A piece of work that this process holds. Every write to it carries the fence: after another claim it counts no more. */
export type Claim = {
  readonly no: number
  readonly fence: number
  readonly notificationNo: number
  readonly urgency: number
} & (
  | { readonly kind: 'expand' }
  | {
      readonly kind: 'send'
      readonly failures: number
      readonly cause: Reason | undefined
      readonly devices: readonly number[]
    }
)

type Raw = {
  no: number
  kind: 'expand' | 'send'
  fence: number
  notification_no: number
  urgency: number
  failures: number
  cause: number
  devices: Buffer | null
}

/**
 * Claims the most urgent piece of work that is due, or `undefined` when there is none. `available_at` is both the time
 * when work is due and the end of a lease: a worker that dies needs nobody to clean up after it.
 * @param held what this process works on already. Its leases can run out while the database is away; it must not take them
 *   from itself, or devices would be sent to twice
 */
export async function claimWork(
  database: Database,
  leaseMs: number,
  held: readonly number[] = [],
): Promise<Claim | undefined> {
  const others = held.length > 0 ? `and no not in (${held.join(',')})` : ''
  const [due] = await database.rows<{ urgency: number }>(
    `select urgency from work where available_at <= utc_timestamp(3) ${others} order by urgency desc limit 1`,
  )
  if (!due) return undefined
  const row = await database.transact(async (tx) => {
    const [found] = await tx.rows<Raw>(
      `select no, kind, fence, notification_no, urgency, failures, cause, devices from work
       where urgency = ? and available_at <= utc_timestamp(3) ${others} order by available_at limit 1 for update skip locked`,
      [due.urgency],
    )
    if (!found) return undefined
    await tx.change(
      'update work set fence = fence + 1, leased = true, available_at = utc_timestamp(3) + interval ? microsecond where no = ?',
      [leaseMs * 1_000, found.no],
    )
    return found
  })
  if (!row) return undefined
  const claim = { no: row.no, fence: row.fence + 1, notificationNo: row.notification_no, urgency: row.urgency }
  return row.kind === 'expand'
    ? { ...claim, kind: 'expand' }
    : {
        ...claim,
        kind: 'send',
        failures: row.failures,
        cause: row.cause === 0 ? undefined : reasonOfCode(row.cause),
        devices: unpackBlock(row.devices ?? new Uint8Array()),
      }
}

/** Shows a sign of life. @returns false when the lease was lost to another claim */
export async function extendLease(database: Database, claim: Claim, leaseMs: number): Promise<boolean> {
  const { affectedRows } = await database.change(
    'update work set available_at = utc_timestamp(3) + interval ? microsecond where no = ? and fence = ?',
    [leaseMs * 1_000, claim.no, claim.fence],
  )
  return affectedRows === 1
}

/** Gives claimed work back untouched, to be due after a while. */
export async function releaseWork(database: Database, claim: Claim, afterMs: number): Promise<void> {
  await database.change(
    'update work set leased = false, available_at = utc_timestamp(3) + interval ? microsecond where no = ? and fence = ?',
    [afterMs * 1_000, claim.no, claim.fence],
  )
}

/** Makes due at once what waits in an app for a credential to be replaced. What a worker holds is left alone. */
export async function wakeRejected(database: Database, appNo: number, environment: Environment): Promise<void> {
  await database.change(
    `update work w join notifications n on n.no = w.notification_no set w.available_at = utc_timestamp(3)
     where w.cause = ? and not w.leased and w.available_at > utc_timestamp(3) and n.app_no = ? and n.environment = ?`,
    [reasons['credential-rejected'].code, appNo, environment],
  )
}
