import { sql } from 'drizzle-orm'
import type { Scope } from '../apps/apps.ts'
import type { Database, Reader } from '../database.ts'
import { isDuplicate } from '../errors.ts'

export type SegmentRow = {
  readonly name: string
  readonly version: number
  readonly rule: string
  readonly note: string | null
  readonly madeBy: string
  readonly madeAt: Date
}

const columns = sql`s.name, s.version, s.rule, s.note, s.made_by as madeBy, s.made_at as madeAt`

/** Each in its newest version, by name. @param after the name of the last one before */
export async function listSegments(
  database: Reader,
  { app, environment }: Scope,
  limit: number,
  after = '',
): Promise<SegmentRow[]> {
  return database.rows<SegmentRow>(
    sql`select ${columns} from segments s
     join (select name, max(version) as version from segments where app_no = ${app.no} and environment = ${environment} and name > ${after} group by name) newest
       on newest.name = s.name and newest.version = s.version
     where s.app_no = ${app.no} and s.environment = ${environment} and s.deleted_at is null and s.name > ${after}
     order by s.name limit ${limit}`,
  )
}

export async function findSegment(
  database: Reader,
  { app, environment }: Scope,
  name: string,
): Promise<SegmentRow | undefined> {
  const [row] = await database.rows<SegmentRow & { deleted: number }>(
    sql`select ${columns}, s.deleted_at is not null as deleted from segments s
     where s.app_no = ${app.no} and s.environment = ${environment} and s.name = ${name} order by s.version desc limit 1`,
  )
  if (!row || row.deleted === 1) return undefined
  const { deleted: _, ...rest } = row
  return rest
}

/** How often saving looks again when somebody else saved the same name at the same time. */
const tries = 5

/** Stores the next version. */
export async function saveSegment(
  database: Database,
  { app, environment }: Scope,
  { name, rule, note, madeBy }: Pick<SegmentRow, 'name' | 'rule' | 'note' | 'madeBy'>,
): Promise<void> {
  for (let left = tries; ; left--) {
    try {
      await database.change(
        sql`insert into segments (app_no, environment, name, version, rule, note, made_by, made_at)
         select ${app.no}, ${environment}, ${name}, coalesce(max(version), 0) + 1, ${rule}, ${note}, ${madeBy}, utc_timestamp(3)
         from segments where app_no = ${app.no} and environment = ${environment} and name = ${name}`,
      )
      return
    } catch (error) {
      if (left === 0 || !isDuplicate(error, 'one_version')) throw error
    }
  }
}

/** Takes a segment off the list; its versions stay, for what was sent by them. */
export async function deleteSegment(database: Database, { app, environment }: Scope, name: string): Promise<void> {
  await database.change(
    sql`update segments set deleted_at = utc_timestamp(3)
     where app_no = ${app.no} and environment = ${environment} and name = ${name} and deleted_at is null`,
  )
}
