import { sql } from 'drizzle-orm'
import {
  computed,
  type Database,
  inScope,
  type Reader,
  type RowOf,
  select,
  segments as table,
  versioned,
  type Where,
} from '../../database/index.ts'

const columns = {
  name: table.name,
  version: table.version,
  rule: table.rule,
  note: table.note,
  madeBy: table.madeBy,
  madeAt: table.madeAt,
}
export type SegmentRow = RowOf<typeof columns>

/** Lists, finds and deletes; a deleted segment is found by its version, for what was sent by it. */
export const segmentStore = versioned(table, columns)

/** Of all that are on the list. */
export async function segmentNames(database: Reader, where: Where): Promise<string[]> {
  const rows = await database.rows<{ name: string }>(
    sql`select distinct name from ${table} where ${inScope(table, where)} and ${table.deletedAt} is null`,
  )
  return rows.map(({ name }) => name)
}

/** The newest versions of those that are there, by name. */
export async function segmentVersions(
  database: Reader,
  { appNo, environment }: Where,
  names: readonly string[],
): Promise<Map<string, number>> {
  const rows = await select(
    database,
    { name: table.name, version: computed<number>(sql`max(${table.version})`) },
    sql`from ${table} where ${table.appNo} = ${appNo} and ${table.environment} = ${environment}
        and ${table.name} in ${names} group by ${table.name}`,
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
