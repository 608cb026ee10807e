import { type Environment, urgencies } from '@zbell/core'
import { eq, type SQL, sql } from 'drizzle-orm'
import { afterNow, build, computed, type Database, select, type Tx, work as workTable } from '../database/index.ts'
import type { FairQueue } from './fair-queue.ts'
import type { ClaimedWork } from './work.ts'

export type ClaimOptions = {
  readonly leaseMs: number
  /** Who had the last turns in this process. */
  readonly fair: FairQueue
  /**
   * What this process works on already. Its leases can run out while the database is away; it must not take them from itself,
   * or devices would be sent to twice.
   */
  readonly held?: readonly number[]
  /** The least urgency to look for. */
  readonly least?: number
}

/** Its turn has come, nobody stopped it, and nobody holds it: a worker that dies needs nobody to clean up after it. */
const isDue = sql`suspended = false and parked = false and due_at <= utc_timestamp(3) and coalesce(leased_until <= utc_timestamp(3), true)`

/**
 * Claims the most urgent piece of work that is due, or `undefined` when there is none. Work of one urgency is shared out by
 * turns: first among apps, then among an app's subjects, so that nobody's broadcast holds up anybody else's.
 */
export async function claim(database: Database, options: ClaimOptions): Promise<ClaimedWork | undefined> {
  const { leaseMs, fair, held = [], least = 0 } = options
  const mayBe = held.length > 0 ? sql`${isDue} and no not in ${held}` : isDue
  const urgency = await maxUrgentDue(database, mayBe, least)
  if (urgency === undefined) return undefined
  // Another worker may have its hand on the very same; then it is the next one's turn.
  for (let left = turnsTried; left > 0; left--) {
    const turn = await nextTurn(database, fair, urgency, mayBe)
    if (turn === undefined) return undefined
    const work = await database.transact((tx) => claimOf(tx, urgency, turn, mayBe, leaseMs))
    if (work) return work
  }
  return undefined
}

/** Each is looked up by itself, at the beginning of what is due: behind it may lie a million that wait for their time. */
async function maxUrgentDue(database: Database, mayBe: SQL, least: number): Promise<number | undefined> {
  const looks = urgencies
    .map((_, urgency) => urgency)
    .filter((urgency) => urgency >= least)
    .reverse()
    .map(
      (urgency) =>
        sql`(select ${urgency} as urgency from work force index (by_turn) where urgency = ${urgency} and ${mayBe} limit 1)`,
    )
  const found = await database.rows<{ urgency: number }>(sql.join(looks, sql` union all `))
  return found.length === 0 ? undefined : Math.max(...found.map(({ urgency }) => urgency))
}

/** How often a claim looks again when others were faster. */
const turnsTried = 3

type QueueTurn = { readonly appNo: number; readonly subjectNo: number }

type ClaimedRow = {
  readonly no: number
  readonly kind: string
  readonly fence: number
  readonly environment: Environment
  readonly failures: number
  readonly cause: number
  readonly size: number
  readonly body: Buffer | null
  readonly now: Date
  readonly lapsed: 0 | 1
}

async function claimOf(
  tx: Tx,
  urgency: number,
  { appNo, subjectNo }: QueueTurn,
  mayBe: SQL,
  leaseMs: number,
): Promise<ClaimedWork | undefined> {
  const [row] = await select(
    tx,
    {
      no: workTable.no,
      kind: workTable.kind,
      fence: workTable.fence,
      environment: workTable.environment,
      failures: workTable.failures,
      cause: workTable.cause,
      size: workTable.size,
      body: workTable.body,
      now: computed<ClaimedRow['now']>(sql`utc_timestamp(3)`),
      lapsed: computed<ClaimedRow['lapsed']>(sql`${workTable.leasedUntil} is not null`),
    },
    sql`from ${workTable} where ${workTable.urgency} = ${urgency} and ${workTable.appNo} = ${appNo}
        and ${workTable.subjectNo} = ${subjectNo} and ${mayBe} order by ${workTable.dueAt} limit 1
        for update skip locked`,
  )
  if (!row) return undefined
  const { now, lapsed, ...work } = row
  // Whoever held it did not come to the end, and may have done some of it: that was a try.
  const failures = work.failures + lapsed
  await tx.change(
    build
      .update(workTable)
      .set({ fence: sql`${workTable.fence} + 1`, failures, leasedUntil: afterNow(leaseMs) })
      .where(eq(workTable.no, row.no)),
  )
  return { ...work, failures, fence: row.fence + 1, appNo, subjectNo, urgency, claimedAt: now }
}

/** The most apps, and subjects of one app, that are looked at for whose turn it is: those behind the last one, round and round. */
const maxLookedAt = 200

async function nextTurn(
  database: Database,
  fair: FairQueue,
  urgency: number,
  mayBe: SQL,
): Promise<QueueTurn | undefined> {
  // Each app is looked up by itself: one with ten thousand pieces costs no more than one with a single piece.
  const apps = await someBehind(
    database,
    fair.last('app'),
    (range) => sql`select a.no from apps a where a.no ${range} and (
          select 1 from work force index (by_share) where urgency = ${urgency} and app_no = a.no and ${mayBe} limit 1) = 1
        order by a.no`,
  )
  const appNo = fair.next('app', apps)
  if (appNo === undefined) return undefined
  const subjects = await someBehind(
    database,
    fair.last(`subject of ${appNo}`),
    (range) => sql`select subject_no as no from work
        where urgency = ${urgency} and app_no = ${appNo} and ${mayBe} and subject_no ${range}
        group by subject_no order by subject_no`,
  )
  const subjectNo = fair.next(`subject of ${appNo}`, subjects)
  return subjectNo === undefined ? undefined : { appNo, subjectNo }
}

/** Numbers behind this one, and those up to it where these are few. @param select with a condition on its numbers, in their order */
async function someBehind(database: Database, last: number, select: (range: SQL) => SQL): Promise<number[]> {
  const some = (range: SQL, limit: number) => database.rows<{ no: number }>(sql`${select(range)} limit ${limit}`)
  const behind = await some(sql`> ${last}`, maxLookedAt)
  if (last === 0 || behind.length === maxLookedAt) return behind.map(({ no }) => no)
  const rest = await some(sql`<= ${last}`, maxLookedAt - behind.length)
  return [...behind, ...rest].map(({ no }) => no)
}
