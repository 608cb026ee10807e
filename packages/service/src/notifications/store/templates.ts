import { isDeepStrictEqual } from 'node:util'
import { wellFormedJson } from '@zbell/core'
import { sql } from 'drizzle-orm'
import { type Database, type RowOf, templates as table, versioned, type Where } from '../../database/index.ts'

const columns = {
  name: table.name,
  version: table.version,
  content: table.content,
  declares: table.declares,
  madeBy: table.madeBy,
  madeAt: table.madeAt,
}
export type TemplateRow = RowOf<typeof columns>

/** Lists, finds and deletes; a deleted template is found by its version. */
export const templateStore = versioned(table, columns)

/** Stores the next version, unless the newest says just that. @returns its number */
export async function saveTemplate(
  database: Database,
  scope: Where,
  given: Pick<TemplateRow, 'name' | 'content' | 'declares' | 'madeBy'>,
): Promise<number> {
  return database.transactAnew(async (tx) => {
    const newest = await templateStore.newest(tx, scope, given.name)
    if (newest && !newest.isDeleted) {
      const asKept = JSON.parse(JSON.stringify([given.content, given.declares]))
      if (isDeepStrictEqual([newest.content, newest.declares], asKept)) return newest.version
    }
    const version = (newest?.version ?? 0) + 1
    await tx.change(
      sql`insert into templates (app_no, environment, name, version, content, declares, made_by, made_at)
         values (${scope.appNo}, ${scope.environment}, ${given.name}, ${version}, ${wellFormedJson(given.content)}, ${wellFormedJson(given.declares)}, ${given.madeBy}, utc_timestamp(3))`,
    )
    return version
  })
}
