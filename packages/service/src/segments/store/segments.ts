import { sql } from 'drizzle-orm'
import type { Database, Reader, Where } from '../../database/index.ts'

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
  { appNo, environment }: Where,
  limit: number,
  after = '',
): Promise<SegmentRow[]> {
  return database.rows<SegmentRow>(
    sql`select ${columns} from segments s
     join (select name, max(version) as version from segments where app_no = ${appNo} and environment = ${environment} and name > ${after} group by name) newest
       on newest.name = s.name and newest.version = s.version
     where s.app_no = ${appNo} and s.environment = ${environment} and s.deleted_at is null and s.name > ${after}
     order by s.name limit ${limit}`,
  )
}

/** Of all that are on the list. */
export async function segmentNames(database: Reader, { appNo, environment }: Where): Promise<string[]> {
  const rows = await database.rows<{ name: string }>(
    sql`select distinct name from segments where app_no = ${appNo} and environment = ${environment} and deleted_at is null`,
  )
  return rows.map(({ name }) => name)
}

/** @param version the newest when left out; a removed segment is found only by its version */
export async function findSegment(
  database: Reader,
  { appNo, environment }: Where,
  name: string,
  version?: number,
): Promise<SegmentRow | undefined> {
  const [row] = await database.rows<SegmentRow & { deleted: number }>(
    sql`select ${columns}, s.deleted_at is not null as deleted from segments s
     where s.app_no = ${appNo} and s.environment = ${environment} and s.name = ${name}
       ${version === undefined ? sql`` : sql`and s.version = ${version}`}
     order by s.version desc limit 1`,
  )
  if (!row || (version === undefined && row.deleted === 1)) return undefined
  const { deleted: _, ...rest } = row
  return rest
}

/** The newest versions of those that are there, by name. */
export async function segmentVersions(
  database: Reader,
  { appNo, environment }: Where,
  names: readonly string[],
): Promise<Map<string, number>> {
  const rows = await database.rows<{ name: string; version: number }>(
    sql`select name, max(version) as version from segments
     where app_no = ${appNo} and environment = ${environment} and name in ${names} group by name`,
  )
  return new Map(rows.map(({ name, version }) => [name, version]))
}

/** Stores the next version, unless the newest says just that. */
export async function saveSegment(
  database: Database,
  { appNo, environment }: Where,
  { name, rule, note, madeBy }: Pick<SegmentRow, 'name' | 'rule' | 'note' | 'madeBy'>,
): Promise<void> {
  await database.transactAnew((tx) =>
    tx.change(
      sql`insert into segments (app_no, environment, name, version, rule, note, made_by, made_at)
          select ${appNo}, ${environment}, ${name}, coalesce(max(version), 0) + 1, ${rule}, ${note}, ${madeBy}, utc_timestamp(3)
          from segments where app_no = ${appNo} and environment = ${environment} and name = ${name}
          having coalesce(max(if(deleted_at is null and rule = ${rule} and note <=> ${note}, version, 0)), 0) < coalesce(max(version), 1)`,
    ),
  )
}

/** Takes a segment off the list; its versions stay, for what was sent by them. */
export async function deleteSegment(database: Database, { appNo, environment }: Where, name: string): Promise<void> {
  await database.change(
    sql`update segments set deleted_at = utc_timestamp(3)
     where app_no = ${appNo} and environment = ${environment} and name = ${name} and deleted_at is null`,
  )
}
