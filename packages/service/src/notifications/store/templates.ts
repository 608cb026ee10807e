import { isDeepStrictEqual } from 'node:util'
import {
  build,
  type Database,
  now,
  type RowOf,
  templates as table,
  versioned,
  type Where,
} from '../../database/index.ts'

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
      build.insert(table).values({
        appNo: scope.appNo,
        environment: scope.environment,
        name: given.name,
        version,
        content: given.content,
        declares: given.declares,
        madeBy: given.madeBy,
        madeAt: now,
      }),
    )
    return version
  })
}
