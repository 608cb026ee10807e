import { type Environment, type Reason, reasonOfCode, reasons, unpackBlock } from '@zbell/core'
import type { Database, Tx } from '../database.ts'
import type { Turns } from './turns.ts'

/** A piece of work that this process holds. Every write to it carries the fence: after another claim it counts no more. */
export type Claim = {
  readonly no: number
  readonly fence: number
  readonly appNo: number
  readonly notificationNo: number
  readonly urgency: number
  /** The notification’s. */
  readonly environment: Environment
  readonly createdAt: Date
  /** By how many ms the database's clock is ahead of this process's: due times and lifetimes are the database's. */
  readonly aheadMs: number
} & (
  | { readonly kind: 'expand' | 'withdraw' }
  | {
      readonly kind: 'send'
      readonly failures: number
      readonly cause: Reason | undefined
      readonly devices: readonly number[]
    }
)

type Raw = {
  no: number
  kind: 'expand' | 'send' | 'withdraw'
  fence: number
  app_no: number
  notification_no: number
  urgency: number
  environment: Environment
  created_at: Date
  now: Date
  failures: number
  cause: number
  devices: Buffer | null
}

/**
 * Claims the most urgent piece of work that is due, or `undefined` when there is none. `available_at` is both the time
 * when work is due and the end of a lease: a worker that dies needs nobody to clean up after it.
 * Work of one urgency is shared out by turns: first among apps, then among an app's notifications, so that nobody's
 * broadcast holds up anybody else's.
 * @param turns who had the last turns in this process
 * @param least the least urgency to look for
 * @param held what this process works on already. Its leases can run out while the database is away; it must not take them
 *   from itself, or devices would be sent to twice
 */
export async function claimWork(
  database: Database,
  leaseMs: number,
  turns: Turns,
  held: readonly number[] = [],
  least = 0,
): Promise<Claim | undefined> {
  const others = held.length > 0 ? `and no not in (${held.join(',')})` : ''
  const [due] = await database.rows<{ urgency: number }>(
    `select urgency from work where urgency >= ? and available_at <= utc_timestamp(3) ${others} order by urgency desc limit 1`,
    [least],
  )
  if (!due) return undefined
  let row: Raw | undefined
  // Another worker may have its hand on the very same; then it is the next one's turn.
  for (let left = turnsTried; left > 0 && !row; left--) {
    const whose = await nextTurn(database, turns, due.urgency, others)
    if (whose === undefined) return undefined
    row = await database.transact((tx) => claimOf(tx, due.urgency, whose, others, leaseMs))
  }
  if (!row) return undefined
  const claim = {
    no: row.no,
    fence: row.fence + 1,
    appNo: row.app_no,
    notificationNo: row.notification_no,
    urgency: row.urgency,
    environment: row.environment,
    createdAt: row.created_at,
    aheadMs: row.now.getTime() - Date.now(),
  }
  return row.kind !== 'send'
    ? { ...claim, kind: row.kind }
    : {
        ...claim,
        kind: 'send',
        failures: row.failures,
        cause: row.cause === 0 ? undefined : reasonOfCode(row.cause),
        devices: unpackBlock(row.devices ?? new Uint8Array()),
      }
}

type Whose = { readonly appNo: number; readonly notificationNo: number }

/** How often a claim looks again when others were faster. */
const turnsTried = 3

async function claimOf(
  tx: Tx,
  urgency: number,
  { appNo, notificationNo }: Whose,
  others: string,
  leaseMs: number,
): Promise<Raw | undefined> {
  const [found] = await tx.rows<Raw>(
    `select no, kind, fence, app_no, notification_no, urgency, failures, cause, devices,
       (select environment from notifications n where n.no = notification_no) as environment,
       (select created_at from notifications n where n.no = notification_no) as created_at, utc_timestamp(3) as now
     from work
     where urgency = ? and app_no = ? and notification_no = ? and available_at <= utc_timestamp(3) ${others}
     order by available_at limit 1 for update skip locked`,
    [urgency, appNo, notificationNo],
  )
  if (!found) return undefined
  await tx.change(
    'update work set fence = fence + 1, leased = true, available_at = utc_timestamp(3) + interval ? microsecond where no = ?',
    [leaseMs * 1_000, found.no],
  )
  return found
}

/** The most apps, and notifications of one app, that are looked at for whose turn it is. */
const mostLookedAt = 200

async function nextTurn(database: Database, turns: Turns, urgency: number, others: string): Promise<Whose | undefined> {
  const dueNow = `available_at <= utc_timestamp(3) ${others}`
  const apps = await database.rows<{ no: number }>(
    `select distinct app_no as no from work where urgency = ? and ${dueNow} limit ${mostLookedAt}`,
    [urgency],
  )
  const appNo = turns.next(
    'app',
    apps.map(({ no }) => no),
  )
  if (appNo === undefined) return undefined
  const all = await database.rows<{ no: number }>(
    `select notification_no as no from work where urgency = ? and app_no = ? and ${dueNow}
     group by notification_no limit ${mostLookedAt}`,
    [urgency, appNo],
  )
  const notificationNo = turns.next(
    'notification',
    all.map(({ no }) => no),
  )
  return notificationNo === undefined ? undefined : { appNo, notificationNo }
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
