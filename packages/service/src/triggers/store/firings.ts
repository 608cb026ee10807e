import { createHash } from 'node:crypto'
import { uuidFromBytes, wellFormedJson } from '@zbell/core'
import { and, eq, sql } from 'drizzle-orm'
import {
  build,
  commas,
  type Database,
  firings as firingsTable,
  noneOf,
  type Reader,
  type Tx,
  uuidBuffer,
  type Where,
} from '../../database/index.ts'

export const firingStates = [
  'rung',
  'waiting',
  'not-needed',
  'throttled',
  'nobody',
  'no-case',
  'fault',
  'dropped',
] as const
export type FiringState = (typeof firingStates)[number]

export type NewFiring = {
  readonly triggerNo: number
  readonly version: number
  readonly key: string
  /** The row or the event. */
  readonly given: unknown
  readonly state: FiringState
  readonly says?: string | undefined
  readonly caseNo?: number | undefined
  /** What is to ring when its wait is over. */
  readonly ring?: unknown
  readonly notification?: string | undefined
  readonly afterSeconds?: number | undefined
}

const keyHash = (key: string): Buffer => createHash('sha256').update(key).digest().subarray(0, 16)

export async function storeFirings(tx: Tx, firings: readonly NewFiring[]): Promise<void> {
  if (firings.length === 0) return
  const rows = firings.map(
    (
      one,
    ) => sql`(${one.triggerNo}, ${one.version}, ${keyHash(one.key)}, ${one.key.slice(0, 200)}, ${wellFormedJson(one.given)},
      ${one.state}, ${one.says?.slice(0, 300) ?? null}, ${one.caseNo ?? null}, ${one.ring === undefined ? null : wellFormedJson(one.ring)},
      ${one.notification === undefined ? null : uuidBuffer(one.notification)}, utc_timestamp(3),
      ${one.afterSeconds === undefined ? null : sql`utc_timestamp(3) + interval ${one.afterSeconds} second`})`,
  )
  await tx.change(
    sql`insert into firings (trigger_no, version, key_hash, key_text, given, state, says, case_no, ring, notification_id, fired_at, due_at)
        values ${commas(rows)}`,
  )
}

/** Whether it fired for a key within so many seconds. */
export async function firedLately(tx: Reader, triggerNo: number, key: string, seconds: number): Promise<boolean> {
  const rows = await tx.rows(
    sql`select 1 from firings where trigger_no = ${triggerNo} and key_hash = ${keyHash(key)}
          and fired_at > utc_timestamp(3) - interval ${seconds} second and state in ('rung', 'waiting', 'nobody') limit 1`,
  )
  return rows.length > 0
}

/** How often it fired for a key within so many seconds, counted up to a bound. */
export async function firedCount(
  tx: Reader,
  triggerNo: number,
  key: string,
  seconds: number,
  most: number,
): Promise<number> {
  const rows = await tx.rows(
    sql`select 1 from firings where trigger_no = ${triggerNo} and key_hash = ${keyHash(key)}
          and fired_at > utc_timestamp(3) - interval ${seconds} second and state in ('rung', 'waiting', 'nobody') limit ${most}`,
  )
  return rows.length
}

export type FiringRow = {
  readonly no: number
  readonly version: number
  readonly key: string
  readonly given: unknown
  readonly state: FiringState
  readonly says: string | null
  readonly caseNo: number | null
  readonly notification: string | null
  readonly at: Date
  readonly dueAt: Date | null
}

type RawRow = Omit<FiringRow, 'given' | 'notification'> & { given: string; notification: Buffer | null }

/** Newest first. @param before the number of the last one of the page before */
export async function listFirings(
  reader: Reader,
  triggerNo: number,
  limit: number,
  before = Number.MAX_SAFE_INTEGER,
): Promise<FiringRow[]> {
  const rows = await reader.rows<RawRow>(
    sql`select no, version, key_text as \`key\`, cast(given as char) as given, state, says, case_no as caseNo,
          notification_id as notification, fired_at as at, due_at as dueAt
        from firings where trigger_no = ${triggerNo} and no < ${before} order by no desc limit ${limit}`,
  )
  return rows.map(({ given, notification, ...row }) => ({
    ...row,
    given: JSON.parse(given) as unknown,
    notification: notification && uuidFromBytes(notification),
  }))
}

/** A firing whose wait is over. */
export type DueFiring = {
  readonly no: number
  readonly triggerNo: number
  readonly version: number
  readonly name: string
  readonly source: string
  /** Since it fired. */
  readonly ageSeconds: number
  readonly appNo: number
  readonly environment: Where['environment']
  readonly enabled: number
  readonly pausedBecause: string | null
  readonly definition: string
  readonly given: string
  readonly ring: string
}

/**
 * Firings whose wait is over: of each trigger the longest due, so that one with a hundred thousand delays no other.
 * @param limit of all
 * @param exceptApps whose firings are not wanted
 */
export async function dueFirings(
  database: Database,
  limit: number,
  exceptApps: readonly number[] = [],
): Promise<DueFiring[]> {
  // One look at the index for each trigger (“loose index scan”).
  const triggers = await database.rows<{ no: number }>(
    sql`select t.no from (select trigger_no, min(due_at) as due_at from firings force index (by_due_of_trigger)
          where state = 'waiting' group by trigger_no) f
        join triggers t on t.no = f.trigger_no
        where f.due_at <= utc_timestamp(3) and ${noneOf(sql`t.app_no`, exceptApps)} order by f.due_at limit ${limit}`,
  )
  if (triggers.length === 0) return []
  const each = Math.max(1, Math.floor(limit / triggers.length))
  const ofTriggers = triggers.map(
    ({ no }) =>
      sql`(select no from firings force index (by_due_of_trigger)
           where state = 'waiting' and trigger_no = ${no} and due_at <= utc_timestamp(3) order by due_at limit ${each})`,
  )
  return database.rows<DueFiring>(
    sql`select f.no, f.trigger_no as triggerNo, f.version, t.name, t.source,
          timestampdiff(second, f.fired_at, utc_timestamp(3)) as ageSeconds, t.app_no as appNo, t.environment, t.enabled,
          t.paused_because as pausedBecause, cast(v.definition as char) as definition,
          cast(f.given as char) as given, cast(f.ring as char) as ring
        from (${sql.join(ofTriggers, sql` union all `)}) due join firings f on f.no = due.no
        join triggers t on t.no = f.trigger_no
        join trigger_versions v on v.trigger_no = f.trigger_no and v.version = f.version
        order by f.due_at`,
  )
}

/** Says what came of one that waited. @returns false when somebody else has said it */
export async function settleFiring(
  tx: Tx,
  no: number,
  how: { readonly state: FiringState; readonly says?: string | undefined; readonly notification?: string | undefined },
): Promise<boolean> {
  const { affectedRows } = await tx.change(
    build
      .update(firingsTable)
      .set({
        state: how.state,
        says: how.says?.slice(0, 300) ?? null,
        ring: null,
        notificationId: how.notification ?? null,
      })
      .where(and(eq(firingsTable.no, no), eq(firingsTable.state, 'waiting'))),
  )
  return affectedRows === 1
}

/** So many go in one transaction. */
const batchSize = 5_000

/** Lets one that is due wait for a while longer. */
export const putOffFiring = (database: Database, no: number, seconds: number) =>
  database.change(
    build
      .update(firingsTable)
      .set({ dueAt: sql`utc_timestamp(3) + interval ${seconds} second` })
      .where(and(eq(firingsTable.no, no), eq(firingsTable.state, 'waiting'))),
  )

/** Forgets firings of long ago. */
export async function pruneFirings(database: Database, days: number, mayGoOn: () => boolean): Promise<void> {
  while (mayGoOn()) {
    const { affectedRows } = await database.change(
      sql`delete from firings where fired_at < utc_timestamp(3) - interval ${days} day and state <> 'waiting'
          order by fired_at limit ${batchSize}`,
    )
    if (affectedRows < batchSize) return
  }
}

/** Says in the log of each trigger that is switched on for a source that nothing comes from it. */
export async function sourceAwayFirings(
  tx: Tx,
  { appNo, environment }: Where,
  source: string,
  says: string,
): Promise<void> {
  await tx.change(
    sql`insert into firings (trigger_no, version, key_hash, key_text, given, state, says, fired_at)
        select no, version, ${keyHash('')}, '', '{}', 'fault', ${says.slice(0, 300)}, utc_timestamp(3) from triggers
        where app_no = ${appNo} and environment = ${environment} and source = ${source} and enabled = true`,
  )
}
