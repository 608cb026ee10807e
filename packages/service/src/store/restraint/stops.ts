import type { Environment } from '@zbell/core'
import { type SQL, sql } from 'drizzle-orm'
import type { Where } from '../apps/where.ts'
import type { Database, Reader } from '../database.ts'

export type StopRow = { readonly reason: string; readonly stoppedBy: string; readonly stoppedAt: Date }

/** Whether the app of a row of this table is stopped in its environment. @param table such as `n`, with `app_no` and `environment` */
export const isStopped = (table: SQL): SQL =>
  sql`exists (select 1 from app_stops s where s.app_no = ${table}.app_no and s.environment = ${table}.environment)`

export async function findStop(reader: Reader, { appNo, environment }: Where): Promise<StopRow | undefined> {
  const [row] = await reader.rows<StopRow>(
    sql`select reason, stopped_by as stoppedBy, stopped_at as stoppedAt from app_stops
        where app_no = ${appNo} and environment = ${environment}`,
  )
  return row
}

/** One that stands already keeps who said it first. */
export async function storeStop(
  database: Database,
  { appNo, environment }: Where,
  { reason, by }: { readonly reason: string; readonly by: string },
): Promise<void> {
  await database.change(
    sql`insert into app_stops (app_no, environment, reason, stopped_by, stopped_at)
        values (${appNo}, ${environment}, ${reason}, ${by}, utc_timestamp(3))
        on duplicate key update reason = value(reason)`,
  )
}

export async function removeStop(database: Database, { appNo, environment }: Where): Promise<void> {
  await database.change(sql`delete from app_stops where app_no = ${appNo} and environment = ${environment}`)
}

/** Which apps are stopped. */
export const allStops = (reader: Reader): Promise<{ app: string; environment: Environment }[]> =>
  reader.rows(sql`select a.slug as app, s.environment from app_stops s join apps a on a.no = s.app_no`)
