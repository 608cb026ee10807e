import { sql } from 'drizzle-orm'
import type { Database } from '../../database/index.ts'

/** A topic of more than so many devices, or users, is counted in the background; a smaller one whenever somebody asks. */
export const countedWhenAskedUpTo = 1_000

const kinds = [
  { table: sql`topic_devices`, column: sql`counted_devices` },
  { table: sql`topic_users`, column: sql`counted_users` },
] as const

/**
 * Counts the members of all large topics anew.
 * @returns of how many topics the number changed
 */
export async function countMembers(database: Database, mayGoOn: () => boolean): Promise<number> {
  let changed = 0
  for (const { table, column } of kinds) {
    const rows = await database.rows<{ no: number; count: number | null; kept: number | null }>(
      sql`select t.no, m.count, t.${column} as kept from topics t left join (select topic_no, count(*) as count
          from ${table} group by topic_no having count(*) > ${countedWhenAskedUpTo}) m on m.topic_no = t.no
          where not m.count <=> t.${column}`,
    )
    for (const { no, count } of rows) {
      if (!mayGoOn()) return changed
      await database.change(sql`update topics set ${column} = ${count} where no = ${no}`)
      changed++
    }
  }
  return changed
}
