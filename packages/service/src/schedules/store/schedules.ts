import type { SettledRequest } from '@zbell/contract'
import { uuidFromBytes, wellFormedJson } from '@zbell/core'
import type { When } from '@zbell/core/calendar'
import { sql } from 'drizzle-orm'
import {
  type Database,
  inWhere,
  leaveRows,
  type Reader,
  type Tx,
  uuidBuffer,
  type Where,
} from '../../database/index.ts'

/** A schedule as it is kept. */
export type ScheduleRow = {
  readonly no: number
  readonly appNo: number
  readonly environment: Where['environment']
  readonly name: string
  readonly when: When
  readonly notification: SettledRequest
  readonly graceSeconds: number
  readonly paused: boolean
  /** When it rings next; null when it is over. */
  readonly nextAt: Date | null
  /** The id of the notification that its next run makes. */
  readonly nextId: string
  readonly version: number
  readonly madeBy: string
  readonly changedAt: Date
}

export type NewSchedule = Pick<
  ScheduleRow,
  'name' | 'when' | 'notification' | 'graceSeconds' | 'paused' | 'nextAt' | 'nextId' | 'madeBy'
>

type RawRow = Omit<ScheduleRow, 'when' | 'notification' | 'paused' | 'nextId'> & {
  timing: string
  notification: string
  paused: number
  nextId: Buffer
}

const columns = sql`no, app_no as appNo, environment, name, cast(timing as char) as timing,
  cast(notification as char) as notification, grace_seconds as graceSeconds, paused, next_at as nextAt, next_id as nextId,
  version, made_by as madeBy, changed_at as changedAt`

const rowOf = ({ timing, notification, paused, nextId, ...rest }: RawRow): ScheduleRow => ({
  ...rest,
  when: JSON.parse(timing) as When,
  notification: JSON.parse(notification) as SettledRequest,
  paused: paused === 1,
  nextId: uuidFromBytes(nextId),
})

/** By name. @param after the name of the last one before */
export async function listSchedules(database: Reader, where: Where, limit: number, after = ''): Promise<ScheduleRow[]> {
  const rows = await database.rows<RawRow>(
    sql`select ${columns} from schedules where ${inWhere(where)} and name > ${after} order by name limit ${limit}`,
  )
  return rows.map(rowOf)
}

/** How many there are besides one. */
export async function countOtherSchedules(database: Reader, where: Where, name: string): Promise<number> {
  const [row] = await database.rows<{ others: number }>(
    sql`select count(*) as others from schedules where ${inWhere(where)} and name <> ${name}`,
  )
  return row?.others ?? 0
}

/** Those that ring before a moment, soonest first. */
export async function schedulesBefore(
  database: Reader,
  where: Where,
  before: Date,
  limit: number,
): Promise<ScheduleRow[]> {
  const rows = await database.rows<RawRow>(
    sql`select ${columns} from schedules force index (by_app)
        where ${inWhere(where)} and next_at < ${before} order by next_at limit ${limit}`,
  )
  return rows.map(rowOf)
}

export async function findSchedule(database: Reader, where: Where, name: string): Promise<ScheduleRow | undefined> {
  const [row] = await database.rows<RawRow>(
    sql`select ${columns} from schedules where ${inWhere(where)} and name = ${name}`,
  )
  return row && rowOf(row)
}

/** Saves one under its name; whatever was there under it is another version from now on. */
export async function saveSchedule(tx: Tx, { appNo, environment }: Where, given: NewSchedule): Promise<void> {
  await tx.change(
    sql`insert into schedules (app_no, environment, name, timing, notification, grace_seconds, paused, next_at, next_id,
          made_by, changed_at)
        values (${appNo}, ${environment}, ${given.name}, ${wellFormedJson(given.when)}, ${wellFormedJson(given.notification)},
          ${given.graceSeconds}, ${given.paused}, ${given.nextAt}, ${uuidBuffer(given.nextId)}, ${given.madeBy}, utc_timestamp(3))
        on duplicate key update timing = value(timing), notification = value(notification),
          grace_seconds = value(grace_seconds), paused = value(paused), next_at = value(next_at), next_id = value(next_id),
          made_by = value(made_by), changed_at = value(changed_at), version = version + 1`,
  )
}

/** Pauses one, or lets it go on from a time that lies ahead. */
export async function pauseSchedule(
  database: Database,
  no: number,
  paused: boolean,
  nextAt: Date | null,
): Promise<void> {
  await database.change(
    sql`update schedules set paused = ${paused}, next_at = ${nextAt}, changed_at = utc_timestamp(3), version = version + 1
        where no = ${no}`,
  )
}

export async function deleteSchedule(database: Database, no: number): Promise<void> {
  await database.transact(async (tx) => {
    await tx.change(sql`delete from schedules where no = ${no}`)
    await leaveRows(tx, 'schedule', [no])
  })
}

/** @returns how many there were; when that is not the number that was believed, none is cancelled */
export async function deleteSchedules(database: Database, where: Where, believed: number): Promise<number> {
  return database.transact(async (tx) => {
    const rows = await tx.rows<{ no: number }>(sql`select no from schedules where ${inWhere(where)} for update`)
    const numbers = rows.map(({ no }) => no)
    if (numbers.length !== believed || numbers.length === 0) return numbers.length
    await tx.change(sql`delete from schedules where no in ${numbers}`)
    await leaveRows(tx, 'schedule', numbers)
    return numbers.length
  })
}

/** A schedule whose time has come, and what time it is. */
export type DueSchedule = { readonly schedule: ScheduleRow; readonly now: Date }

/** Those whose time has come, the longest due first. @param except the numbers of some that are left alone */
export async function dueSchedules(
  database: Database,
  limit: number,
  except: readonly number[] = [],
): Promise<readonly DueSchedule[]> {
  const rows = await database.rows<RawRow & { now: Date }>(
    sql`select ${columns}, utc_timestamp(3) as now from schedules force index (by_due)
        where paused = false and next_at <= utc_timestamp(3) ${except.length > 0 ? sql`and no not in ${except}` : sql``} order by next_at limit ${limit}`,
  )
  return rows.map(({ now, ...row }) => ({ now, schedule: rowOf(row) }))
}

/**
 * Takes the next times of schedules in hand, until the transaction ends.
 * @returns those that are still to be settled; what another has in hand, or has settled, is left out
 */
export async function lockSchedules(tx: Tx, schedules: readonly ScheduleRow[]): Promise<ReadonlySet<number>> {
  // By their numbers alone: an index by time would lock their neighbours along with them.
  const rows = await tx.rows<{ no: number; version: number; nextAt: Date | null }>(
    sql`select no, version, next_at as nextAt from schedules force index (primary)
        where no in ${schedules.map(({ no }) => no)} for update skip locked`,
  )
  const held = new Map(rows.map((row) => [row.no, row]))
  return new Set(
    schedules
      .filter(({ no, version, nextAt }) => {
        const now = held.get(no)
        return now?.version === version && now.nextAt?.getTime() === nextAt?.getTime()
      })
      .map(({ no }) => no),
  )
}

export async function moveOn(tx: Tx, no: number, nextAt: Date | null, nextId: string): Promise<void> {
  await tx.change(sql`update schedules set next_at = ${nextAt}, next_id = ${uuidBuffer(nextId)} where no = ${no}`)
}
