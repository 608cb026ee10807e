import { type SQL, sql } from 'drizzle-orm'
import { commas, present, type Scope, select, type Tx, users } from '../../database/index.ts'

/** Users by name: their numbers, made where they are new. Each statement may stand alone: a user without devices harms nobody. */
export async function ensureUsers(
  tx: Pick<Tx, 'rows' | 'change'>,
  { app, environment }: Scope,
  names: readonly string[],
): Promise<Map<string, number>> {
  const numbers = new Map<string, number>()
  const read = async (wanted: readonly string[], lock: SQL) => {
    if (wanted.length === 0) return
    const rows = await select(
      tx,
      { no: users.no, name: present(users.name) },
      sql`from ${users} where ${users.appNo} = ${app.no} and ${users.environment} = ${environment}
          and ${users.name} in ${wanted} ${lock}`,
    )
    for (const { no, name } of rows) numbers.set(name, no)
  }
  await read(names, sql``)
  const missing = names.filter((name) => !numbers.has(name))
  if (missing.length === 0) return numbers
  const rows = missing.map((name) => sql`(${app.no}, ${environment}, ${name}, utc_timestamp(3), utc_timestamp(3))`)
  await tx.change(
    sql`insert ignore into users (app_no, environment, name, created_at, changed_at) values ${commas(rows)}`,
  )
  // Somebody else may have made them in between: what is stored now is read, not what this transaction saw before.
  await read(missing, sql`lock in share mode`)
  return numbers
}
