import { and, eq, gt, lte, sql } from 'drizzle-orm'
import { build, computed, type Database, jobs, now, select } from '../../database/index.ts'

export type JobRow = {
  readonly name: string
  readonly everySeconds: number
  /** The process that ran it last, or runs it now. */
  readonly runBy: string | null
  readonly startedAt: Date | null
  readonly finishedAt: Date | null
  readonly durationMs: number | null
  /** How often it has failed in a row. */
  readonly failures: number
  readonly error: string | null
  /** How many seconds ago it should have run. */
  readonly lateSeconds: number
}

/** Makes a job known. What is known of its runs stays. */
export async function declareJob(database: Database, name: string, everySeconds: number): Promise<void> {
  await database.change(
    sql`insert into jobs (name, every_seconds, due_at, until_at) values (${name}, ${everySeconds}, utc_timestamp(3), utc_timestamp(3))
     on duplicate key update due_at = least(due_at, utc_timestamp(3) + interval value(every_seconds) second),
       every_seconds = value(every_seconds)`,
  )
}

/** Takes a job that is due and that nobody runs. @returns false for all but one of those who try */
export async function takeJob(
  database: Database,
  name: string,
  owner: Buffer,
  runBy: string,
  leaseMs: number,
): Promise<boolean> {
  const { affectedRows } = await database.change(
    build
      .update(jobs)
      .set({
        owner,
        runBy: runBy.slice(0, 100),
        startedAt: now,
        untilAt: sql`utc_timestamp(3) + interval ${leaseMs * 1_000} microsecond`,
      })
      .where(and(eq(jobs.name, name), lte(jobs.dueAt, now), lte(jobs.untilAt, now))),
  )
  return affectedRows === 1
}

/** Shows a sign of life. @returns false when the job is another's by now */
export async function renewJob(database: Database, name: string, owner: Buffer, leaseMs: number): Promise<boolean> {
  const { affectedRows } = await database.change(
    build
      .update(jobs)
      .set({ untilAt: sql`utc_timestamp(3) + interval ${leaseMs * 1_000} microsecond` })
      .where(and(eq(jobs.name, name), eq(jobs.owner, owner), gt(jobs.untilAt, now))),
  )
  return affectedRows === 1
}

/**
 * Says how a run went; the next is due one interval after this one began, a little more or less.
 * @param jitter from 0.9 to 1.1, so that what began together does not go on together
 */
export async function finishJob(
  database: Database,
  name: string,
  owner: Buffer,
  {
    durationMs,
    error,
    jitter,
  }: { readonly durationMs: number; readonly error: string | null; readonly jitter: number },
): Promise<void> {
  await database.change(
    build
      .update(jobs)
      .set({
        owner: null,
        untilAt: now,
        finishedAt: now,
        durationMs: Math.round(durationMs),
        error: error?.slice(0, 300) ?? null,
        failures: sql`if(${error} is null, 0, ${jobs.failures} + 1)`,
        dueAt: sql`${jobs.startedAt} + interval round(${jobs.everySeconds} * ${jitter} * 1000000) microsecond`,
      })
      .where(and(eq(jobs.name, name), eq(jobs.owner, owner))),
  )
}

/** All that were declared, by name. */
export const listJobs = (database: Pick<Database, 'rows'>): Promise<JobRow[]> =>
  select(
    database,
    {
      name: jobs.name,
      everySeconds: jobs.everySeconds,
      runBy: jobs.runBy,
      startedAt: jobs.startedAt,
      finishedAt: jobs.finishedAt,
      durationMs: jobs.durationMs,
      failures: jobs.failures,
      error: jobs.error,
      lateSeconds: computed<JobRow['lateSeconds']>(
        sql`if(${jobs.untilAt} > utc_timestamp(3), 0, greatest(0, timestampdiff(second, ${jobs.dueAt},
            utc_timestamp(3))))`,
      ),
    },
    sql`from ${jobs} order by ${jobs.name}`,
  )
