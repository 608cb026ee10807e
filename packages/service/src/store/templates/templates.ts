import type { Declarations, Writing } from '@zbell/core'
import type { Scope } from '../apps/apps.ts'
import type { Database } from '../database.ts'
import { isDuplicate } from '../errors.ts'

export type TemplateRow = {
  readonly name: string
  readonly version: number
  readonly content: Writing
  readonly declares: Declarations
  readonly madeBy: string
  readonly madeAt: Date
}

type Raw = Omit<TemplateRow, 'content' | 'declares'> & { content: unknown; declares: unknown }

const columns = 't.name, t.version, t.content, t.declares, t.made_by as madeBy, t.made_at as madeAt'
const parsed = <T>(value: unknown): T => (typeof value === 'string' ? JSON.parse(value) : value) as T
const rowOf = (raw: Raw): TemplateRow => ({
  ...raw,
  content: parsed<Writing>(raw.content),
  declares: parsed<Declarations>(raw.declares),
})

/** Each in its newest version, by name. @param after the name of the last one before */
export async function listTemplates(
  database: Database,
  { app, environment }: Scope,
  limit: number,
  after = '',
): Promise<TemplateRow[]> {
  const rows = await database.rows<Raw>(
    `select ${columns} from templates t
     join (select name, max(version) as version from templates where app_no = ? and environment = ? and name > ? group by name) newest
       on newest.name = t.name and newest.version = t.version
     where t.app_no = ? and t.environment = ? and t.deleted_at is null and t.name > ? order by t.name limit ?`,
    [app.no, environment, after, app.no, environment, after, limit],
  )
  return rows.map(rowOf)
}

/** @param version the newest when left out; a removed template is found only by its version */
export async function findTemplate(
  database: Database,
  { app, environment }: Scope,
  name: string,
  version: number | undefined,
): Promise<TemplateRow | undefined> {
  const [raw] = await database.rows<Raw & { deleted: number }>(
    `select ${columns}, t.deleted_at is not null as deleted from templates t
     where t.app_no = ? and t.environment = ? and t.name = ? ${version === undefined ? '' : 'and t.version = ?'}
     order by t.version desc limit 1`,
    [app.no, environment, name, ...(version === undefined ? [] : [version])],
  )
  if (!raw || (version === undefined && raw.deleted === 1)) return undefined
  const { deleted: _, ...rest } = raw
  return rowOf(rest)
}

/** How often saving looks again when somebody else saved the same name at the same time. */
const tries = 5

/** Stores the next version. @returns its number */
export async function saveTemplate(
  database: Database,
  { app, environment }: Scope,
  given: Pick<TemplateRow, 'name' | 'content' | 'declares' | 'madeBy'>,
): Promise<number> {
  for (let left = tries; ; left--) {
    try {
      return await database.transact(async (tx) => {
        const [newest] = await tx.rows<{ version: number | null }>(
          'select max(version) as version from templates where app_no = ? and environment = ? and name = ?',
          [app.no, environment, given.name],
        )
        const version = (newest?.version ?? 0) + 1
        await tx.change(
          `insert into templates (app_no, environment, name, version, content, declares, made_by, made_at)
           values (?, ?, ?, ?, ?, ?, ?, utc_timestamp(3))`,
          [
            app.no,
            environment,
            given.name,
            version,
            JSON.stringify(given.content),
            JSON.stringify(given.declares),
            given.madeBy,
          ],
        )
        return version
      })
    } catch (error) {
      if (left === 0 || !isDuplicate(error, 'one_version')) throw error
    }
  }
}

/** Takes a template off the list. @returns false when it is not on it */
export async function deleteTemplate(database: Database, { app, environment }: Scope, name: string): Promise<boolean> {
  const { affectedRows } = await database.change(
    `update templates set deleted_at = utc_timestamp(3)
     where app_no = ? and environment = ? and name = ? and deleted_at is null`,
    [app.no, environment, name],
  )
  return affectedRows > 0
}
