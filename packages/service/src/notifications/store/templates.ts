import { isDeepStrictEqual } from 'node:util'
import { type Declarations, type Writing, wellFormedJson } from '@zbell/core'
import { sql } from 'drizzle-orm'
import type { Database, Scope } from '../../database/index.ts'

export type TemplateRow = {
  readonly name: string
  readonly version: number
  readonly content: Writing
  readonly declares: Declarations
  readonly madeBy: string
  readonly madeAt: Date
}

type StoredTemplate = Omit<TemplateRow, 'content' | 'declares'> & { content: unknown; declares: unknown }

const columns = sql`t.name, t.version, t.content, t.declares, t.made_by as madeBy, t.made_at as madeAt`
const parsed = <T>(value: unknown): T => (typeof value === 'string' ? JSON.parse(value) : value) as T
const rowOf = (raw: StoredTemplate): TemplateRow => ({
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
  const rows = await database.rows<StoredTemplate>(
    sql`select ${columns} from templates t
     join (select name, max(version) as version from templates where app_no = ${app.no} and environment = ${environment} and name > ${after} group by name) newest
       on newest.name = t.name and newest.version = t.version
     where t.app_no = ${app.no} and t.environment = ${environment} and t.deleted_at is null and t.name > ${after} order by t.name limit ${limit}`,
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
  const [raw] = await database.rows<StoredTemplate & { deleted: number }>(
    sql`select ${columns}, t.deleted_at is not null as deleted from templates t
     where t.app_no = ${app.no} and t.environment = ${environment} and t.name = ${name}
       ${version === undefined ? sql`` : sql`and t.version = ${version}`}
     order by t.version desc limit 1`,
  )
  if (!raw || (version === undefined && raw.deleted === 1)) return undefined
  const { deleted: _, ...rest } = raw
  return rowOf(rest)
}

/** Stores the next version, unless the newest says just that. @returns its number */
export async function saveTemplate(
  database: Database,
  { app, environment }: Scope,
  given: Pick<TemplateRow, 'name' | 'content' | 'declares' | 'madeBy'>,
): Promise<number> {
  return database.transactAnew(async (tx) => {
    const [newest] = await tx.rows<StoredTemplate & { deleted: number }>(
      sql`select ${columns}, t.deleted_at is not null as deleted from templates t
          where t.app_no = ${app.no} and t.environment = ${environment} and t.name = ${given.name}
          order by t.version desc limit 1`,
    )
    if (newest?.deleted === 0) {
      const { content, declares, version } = rowOf(newest)
      const asKept = JSON.parse(JSON.stringify([given.content, given.declares]))
      if (isDeepStrictEqual([content, declares], asKept)) return version
    }
    const version = (newest?.version ?? 0) + 1
    await tx.change(
      sql`insert into templates (app_no, environment, name, version, content, declares, made_by, made_at)
         values (${app.no}, ${environment}, ${given.name}, ${version}, ${wellFormedJson(given.content)}, ${wellFormedJson(given.declares)}, ${given.madeBy}, utc_timestamp(3))`,
    )
    return version
  })
}

/** Takes a template off the list. @returns false when it is not on it */
export async function deleteTemplate(database: Database, { app, environment }: Scope, name: string): Promise<boolean> {
  const { affectedRows } = await database.change(
    sql`update templates set deleted_at = utc_timestamp(3)
     where app_no = ${app.no} and environment = ${environment} and name = ${name} and deleted_at is null`,
  )
  return affectedRows > 0
}
