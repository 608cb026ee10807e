import { eq, inArray, sql } from 'drizzle-orm'
import {
  build,
  computed,
  type Database,
  incoming,
  inScope,
  inWhere,
  leaveRows,
  named,
  noneOf,
  now,
  type Reader,
  type RowOf,
  select,
  type Tx,
  schedules as table,
  type Where,
} from '../../database/index.ts'

const columns = {
  no: table.no,
  appNo: table.appNo,
  environment: table.environment,
  name: table.name,
  when: table.timing,
  notification: table.notification,
  graceSeconds: table.graceSeconds,
  paused: table.paused,
  /** When it rings next; null when it is over. */
  nextAt: table.nextAt,
  /** The id of the notification that its next run makes. */
  nextId: table.nextId,
  version: table.version,
  madeBy: table.madeBy,
  changedAt: table.changedAt,
}
/** A schedule as it is kept. */
export type ScheduleRow = RowOf<typeof columns>

/** Lists, finds and counts schedules. */
export const scheduleStore = named(table, columns)

export type NewSchedule = Pick<
  ScheduleRow,
  'name' | 'when' | 'notification' | 'graceSeconds' | 'paused' | 'nextAt' | 'nextId' | 'madeBy'
>

/** Those that ring before a moment, soonest first. */
export const schedulesBefore = (reader: Reader, where: Where, before: Date, limit: number): Promise<ScheduleRow[]> =>
  scheduleStore.select(
    reader,
    sql`force index (by_app) where ${inScope(table, where)} and next_at < ${before} order by next_at limit ${limit}`,
  )

/** Saves one under its name; whatever was there under it is another version from now on. */
export async function saveSchedule(tx: Tx, { appNo, environment }: Where, given: NewSchedule): Promise<void> {
  await tx.change(
    build
      .insert(table)
      .values({
        appNo,
        environment,
        name: given.name,
        timing: given.when,
        notification: given.notification,
        graceSeconds: given.graceSeconds,
        paused: given.paused,
        nextAt: given.nextAt,
        nextId: given.nextId,
        madeBy: given.madeBy,
        changedAt: now,
      })
      .onDuplicateKeyUpdate({
        set: {
          timing: incoming(table.timing),
          notification: incoming(table.notification),
          graceSeconds: incoming(table.graceSeconds),
          paused: incoming(table.paused),
          nextAt: incoming(table.nextAt),
          nextId: incoming(table.nextId),
          madeBy: incoming(table.madeBy),
          changedAt: incoming(table.changedAt),
          version: sql`${table.version} + 1`,
        },
      }),
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
    build
      .update(table)
      .set({ paused, nextAt, changedAt: now, version: sql`${table.version} + 1` })
      .where(eq(table.no, no)),
  )
}

export async function deleteSchedule(database: Database, no: number): Promise<void> {
  await database.transact(async (tx) => {
    await tx.change(build.delete(table).where(eq(table.no, no)))
    await leaveRows(tx, 'schedule', [no])
  })
}

/** @returns how many there were; when that is not the number that was believed, none is cancelled */
export async function deleteSchedules(database: Database, where: Where, believed: number): Promise<number> {
  return database.transact(async (tx) => {
    const rows = await select(tx, { no: table.no }, sql`from ${table} where ${inWhere(where)} for update`)
    const numbers = rows.map(({ no }) => no)
    if (numbers.length !== believed || numbers.length === 0) return numbers.length
    await tx.change(build.delete(table).where(inArray(table.no, numbers)))
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
  const rows = await select(
    database,
    { ...columns, now: computed<Date>(sql`utc_timestamp(3)`) },
    sql`from ${table} force index (by_due) where paused = false and next_at <= utc_timestamp(3)
          and ${noneOf(sql`no`, except)} order by next_at limit ${limit}`,
  )
  return rows.map(({ now, ...schedule }) => ({ now, schedule }))
}

/**
 * Takes the next times of schedules in hand, until the transaction ends.
 * @returns those that are still to be settled; what another has in hand, or has settled, is left out
 */
export async function lockSchedules(tx: Tx, schedules: readonly ScheduleRow[]): Promise<ReadonlySet<number>> {
  // By their numbers alone: an index by time would lock their neighbours along with them.
  const rows = await select(
    tx,
    { no: table.no, version: table.version, nextAt: table.nextAt },
    sql`from ${table} force index (primary)
        where ${table.no} in ${schedules.map(({ no }) => no)} for update skip locked`,
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
  await tx.change(build.update(table).set({ nextAt, nextId }).where(eq(table.no, no)))
}
