import type { Environment } from '@zbell/core'
import { type SQL, sql } from 'drizzle-orm'
import { appStops, type Reader, select, type Where } from '../../database/index.ts'

export type StopRow = { readonly reason: string; readonly stoppedBy: string; readonly stoppedAt: Date }

/** Whether the app of a row of this table is stopped in its environment. @param table such as `n`, with `app_no` and `environment` */
export const isStopped = (table: SQL): SQL =>
  sql`exists (select 1 from app_stops s where s.app_no = ${table}.app_no and s.environment = ${table}.environment)`

export async function findStop(reader: Reader, { appNo, environment }: Where): Promise<StopRow | undefined> {
  const [row] = await select(
    reader,
    { reason: appStops.reason, stoppedBy: appStops.stoppedBy, stoppedAt: appStops.stoppedAt },
    sql`from ${appStops}
        where ${appStops.appNo} = ${appNo} and ${appStops.environment} = ${environment}`,
  )
  return row
}

/** Which apps are stopped. */
export const allStops = (reader: Reader): Promise<{ app: string; environment: Environment }[]> =>
  reader.rows(sql`select a.slug as app, s.environment from app_stops s join apps a on a.no = s.app_no`)
