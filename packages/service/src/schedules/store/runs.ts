import { inArray, sql } from 'drizzle-orm'
import {
  apps,
  build,
  computed,
  type Database,
  now,
  type Reader,
  scheduleRuns,
  schedules,
  select,
  type Tx,
  type Where,
} from '../../database/index.ts'

export type RunState = 'rung' | 'missed' | 'skipped' | 'failed'

export type RunRow = {
  readonly no: number
  readonly dueAt: Date
  readonly state: RunState
  readonly says: string | null
  readonly notification: string | null
  readonly at: Date
}

/** Settles a time of a schedule. @returns false when it was settled before, by whomever */
export async function settleTime(
  tx: Tx,
  scheduleNo: number,
  run: { readonly dueAt: Date; readonly state: RunState; readonly says?: string; readonly notification?: string },
): Promise<boolean> {
  const { affectedRows } = await tx.change(
    build
      .insert(scheduleRuns)
      .ignore()
      .values({
        scheduleNo,
        dueAt: run.dueAt,
        state: run.state,
        says: run.says?.slice(0, 300) ?? null,
        notificationId: run.notification ?? null,
        settledAt: now,
      }),
  )
  return affectedRows === 1
}

/** Newest first. @param before the number of the last one of the page before */
export async function listRuns(
  database: Reader,
  scheduleNo: number,
  limit: number,
  before = Number.MAX_SAFE_INTEGER,
): Promise<RunRow[]> {
  return select(
    database,
    {
      no: scheduleRuns.no,
      dueAt: scheduleRuns.dueAt,
      state: scheduleRuns.state,
      says: scheduleRuns.says,
      notification: scheduleRuns.notificationId,
      at: scheduleRuns.settledAt,
    },
    sql`from ${scheduleRuns} where ${scheduleRuns.scheduleNo} = ${scheduleNo} and ${scheduleRuns.no} < ${before}
      order by ${scheduleRuns.no} desc limit ${limit}`,
  )
}

/** So many times ahead that were left out are told of each schedule. */
const maxSkipped = 100

/** The times ahead that were left out by hand, soonest first, by the schedule's number. */
export async function skippedTimes(
  reader: Reader,
  scheduleNos: readonly number[],
): Promise<ReadonlyMap<number, readonly Date[]>> {
  const found = new Map<number, Date[]>()
  if (scheduleNos.length === 0) return found
  const rows = await select(
    reader,
    { no: scheduleRuns.scheduleNo, dueAt: scheduleRuns.dueAt },
    sql`from ${scheduleRuns} force index (one_time) where ${scheduleRuns.scheduleNo} in ${scheduleNos}
        and ${scheduleRuns.dueAt} > utc_timestamp(3) and ${scheduleRuns.state} = 'skipped'
        order by ${scheduleRuns.scheduleNo}, ${scheduleRuns.dueAt}`,
  )
  for (const { no, dueAt } of rows) {
    const all = found.get(no) ?? []
    if (all.length < maxSkipped) all.push(dueAt)
    found.set(no, all)
  }
  return found
}

/** So far back it is told that a schedule did not ring, and so many times of all apps are looked at. */
const told = { days: 2, times: 1_000 }

/** Schedules whose last time did not ring, the latest first. */
export async function unrungSchedules(database: Reader, { appNo, environment }: Where, limit: number) {
  return database.rows<{ name: string; state: 'missed' | 'failed'; says: string | null; agoSeconds: number }>(
    sql`select s.name, r.state, r.says, timestampdiff(second, r.due_at, utc_timestamp(3)) as agoSeconds
        from (select no, schedule_no, state, says, due_at, settled_at from schedule_runs force index (by_state)
              where state in ('missed', 'failed') and settled_at > utc_timestamp(3) - interval ${told.days} day
              order by settled_at desc limit ${told.times}) r
        join schedules s on s.no = r.schedule_no
        where s.app_no = ${appNo} and s.environment = ${environment}
          and r.no = (select max(l.no) from schedule_runs l where l.schedule_no = s.no)
        order by r.settled_at desc limit ${limit}`,
  )
}

/** So often in a row a run may reach nobody, and so long a schedule may be paused, before it is told. */
const unheard = { runs: 3, pausedDays: 7 }

/** That a schedule rang for nobody so often in a row, or has been paused for so long while its times went by. */
const isUnheard = sql`((not paused and empty_runs >= ${unheard.runs})
  or (paused and next_at < utc_timestamp(3) and changed_at < utc_timestamp(3) - interval ${unheard.pausedDays} day))`

/** Schedules whose last runs found nobody, and those that have been paused for long while their times went by. */
export async function unheardSchedules(database: Reader, { appNo, environment }: Where, limit: number) {
  return select(
    database,
    {
      name: schedules.name,
      because: computed<'nobody' | 'paused'>(sql`if(${schedules.paused}, 'paused', 'nobody')`),
      count: computed<number>(
        sql`if(${schedules.paused}, timestampdiff(day, ${schedules.changedAt}, utc_timestamp(3)), ${schedules.emptyRuns})`,
      ),
    },
    sql`from ${schedules} where ${schedules.appNo} = ${appNo} and ${schedules.environment} = ${environment}
        and ${isUnheard} order by ${schedules.name} limit ${limit}`,
  )
}

/** How many there are of those in each app. */
export const countUnheard = (database: Reader) =>
  select(
    database,
    {
      app: apps.slug,
      environment: schedules.environment,
      because: computed<'nobody' | 'paused'>(sql`if(${schedules.paused}, 'paused', 'nobody')`),
      count: computed<number>(sql`count(*)`),
    },
    sql`from ${schedules} join ${apps} on ${apps.no} = ${schedules.appNo} where ${isUnheard} group by ${apps.slug},
        ${schedules.environment}, because`,
  )

/** So many go in one transaction. */
const batchSize = 10_000

/** Forgets runs that were settled long ago; each schedule's last stays. @returns how many went */
export async function pruneRuns(database: Database, days: number, mayGoOn: () => boolean): Promise<number> {
  let forgotten = 0
  while (mayGoOn()) {
    const rows = await database.rows<{ no: number }>(
      sql`select r.no from schedule_runs r force index (by_state)
          where r.state in ('rung', 'missed', 'skipped', 'failed')
            and r.settled_at < utc_timestamp(3) - interval ${days} day
            and r.no < (select max(l.no) from schedule_runs l where l.schedule_no = r.schedule_no)
          limit ${batchSize}`,
    )
    if (rows.length === 0) break
    await database.change(
      build.delete(scheduleRuns).where(
        inArray(
          scheduleRuns.no,
          rows.map(({ no }) => no),
        ),
      ),
    )
    forgotten += rows.length
  }
  return forgotten
}
