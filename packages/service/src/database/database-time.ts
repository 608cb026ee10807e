import { type SQL, sql } from 'drizzle-orm'
import type { Reader } from './database.ts'

/** What time it is by the clock that counts. */
export async function databaseTime(database: Reader): Promise<Date> {
  const [row] = await database.rows<{ now: Date }>(sql`select utc_timestamp(3) as now`)
  if (!row) throw new Error('the database does not say what time it is')
  return row.now
}

/** An instant by the database's clock. @param ms may be a fraction */
export const afterNow = (ms: number): SQL => sql`utc_timestamp(3) + interval ${Math.round(ms * 1_000)} microsecond`
