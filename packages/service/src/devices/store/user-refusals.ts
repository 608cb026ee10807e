import { type UserRefusal, userRefusals } from '@zbell/core'
import { sql } from 'drizzle-orm'
import { build, commas, type Database, type Scope, select, userRefusalCounts as table } from '../../database/index.ts'

export type Refused = { readonly scope: Scope; readonly code: UserRefusal }

/** Counts refusals by the day of the database, those of the same kind together. @param all at least one */
export async function countRefusals(database: Database, all: readonly Refused[]): Promise<void> {
  const counts = new Map<string, { readonly one: Refused; count: number }>()
  for (const one of all) {
    const name = `${one.scope.app.no} ${one.scope.environment} ${one.code}`
    const known = counts.get(name)
    if (known) known.count++
    else counts.set(name, { one, count: 1 })
  }
  const rows = [...counts.values()].map(
    ({ one: { scope, code }, count }) => sql`(${scope.app.no}, ${scope.environment}, utc_date(), ${code}, ${count})`,
  )
  await database.change(
    sql`insert into ${table} (app_no, environment, day, code, count) values ${commas(rows)}
        on duplicate key update count = count + value(count)`,
  )
}

/** Today's, the most frequent first, each with what it means. */
export async function refusalsToday(
  database: Database,
  { app, environment }: Scope,
): Promise<{ readonly code: UserRefusal; readonly detail: string; readonly count: number }[]> {
  const rows = await select(
    database,
    { code: table.code, count: table.count },
    sql`from ${table} where ${table.appNo} = ${app.no} and ${table.environment} = ${environment}
        and ${table.day} = utc_date() order by ${table.count} desc, ${table.code}`,
  )
  return rows.map(({ code, count }) => ({ code, detail: userRefusals[code], count }))
}

export const pruneRefusals = (database: Database, afterDays: number) =>
  database.change(build.delete(table).where(sql`${table.day} < utc_date() - interval ${afterDays} day`))
