import type { Scope } from '../apps/apps.ts'
import type { Tx } from '../database.ts'

/** Users by name: their numbers, made where they are new. Each statement may stand alone: a user without devices harms nobody. */
export async function ensureUsers(
  tx: Pick<Tx, 'rows' | 'change'>,
  { app, environment }: Scope,
  names: readonly string[],
): Promise<Map<string, number>> {
  const numbers = new Map<string, number>()
  const read = async (wanted: readonly string[], lock: string) => {
    if (wanted.length === 0) return
    const rows = await tx.rows<{ no: number; name: string }>(
      `select no, name from users where app_no = ? and environment = ? and name in (?) ${lock}`,
      [app.no, environment, wanted],
    )
    for (const { no, name } of rows) numbers.set(name, no)
  }
  await read(names, '')
  const missing = names.filter((name) => !numbers.has(name))
  if (missing.length === 0) return numbers
  const places = missing.map(() => '(?, ?, ?, utc_timestamp(3), utc_timestamp(3))').join(',')
  await tx.change(
    `insert ignore into users (app_no, environment, name, created_at, changed_at) values ${places}`,
    missing.flatMap((name) => [app.no, environment, name]),
  )
  // Somebody else may have made them in between: what is stored now is read, not what this transaction saw before.
  await read(missing, 'lock in share mode')
  return numbers
}
