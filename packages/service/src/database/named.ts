import { type SQL, sql } from 'drizzle-orm'
import type { MySqlColumn, MySqlTable } from 'drizzle-orm/mysql-core'
import type { Database, Reader } from './database.ts'
import type { Where } from './scope.ts'
import { condition, type Selected, select } from './select.ts'

/** A table whose rows have a name in an app and environment. */
export type NamedTable = MySqlTable & Record<'appNo' | 'environment' | 'name', MySqlColumn>
/** One whose rows are versions of what has the name; the newest counts, unless it was deleted. */
export type VersionedTable = NamedTable & Record<'version' | 'deletedAt', MySqlColumn>

/** Rows of one app and environment. */
export const inScope = (table: NamedTable, { appNo, environment }: Where): SQL =>
  sql`${table.appNo} = ${appNo} and ${table.environment} = ${environment}`

/**
 * What is asked of every table of named things.
 * @param columns what of a row is read
 * @param isThere which rows count
 */
export function named<S extends Selected>(table: NamedTable, columns: S, isThere = sql`true`) {
  const where = (scope: Where, more: SQL): SQL =>
    sql`from ${table} where ${inScope(table, scope)} and ${isThere} and ${more}`
  return {
    /** By name. @param after the name of the last one before */
    list: (reader: Reader, scope: Where, limit: number, after = '') =>
      select(reader, columns, where(scope, sql`${table.name} > ${after} order by ${table.name} limit ${limit}`)),
    find: async (reader: Reader, scope: Where, name: string) =>
      (await select(reader, columns, where(scope, sql`${table.name} = ${name}`)))[0],
    /** How many there are beside one. */
    countOthers: async (reader: Reader, scope: Where, name: string): Promise<number> => {
      const [row] = await reader.rows<{ count: number }>(
        sql`select count(*) as count ${where(scope, sql`${table.name} <> ${name}`)}`,
      )
      return row?.count ?? 0
    },
    /** Others, found by what else they have. @param rest from `where` on */
    select: (reader: Reader, rest: SQL) => select(reader, columns, sql`from ${table} ${rest}`),
  }
}

/** The same of a table whose rows are versions. */
export function versioned<S extends Selected>(table: VersionedTable, columns: S) {
  const scoped = (scope: Where, more: SQL): SQL => sql`from ${table} where ${inScope(table, scope)} and ${more}`
  /** Deleted or not. */
  const newest = async (reader: Reader, scope: Where, name: string, version?: number) => {
    const ofVersion = version === undefined ? sql`` : sql`and ${table.version} = ${version}`
    const [row] = await select(
      reader,
      { ...columns, isDeleted: condition(sql`${table.deletedAt} is not null`) },
      scoped(scope, sql`${table.name} = ${name} ${ofVersion} order by ${table.version} desc limit 1`),
    )
    return row
  }
  return {
    /** Each in its newest version, by name. @param after the name of the last one before */
    list: (reader: Reader, scope: Where, limit: number, after = '') =>
      select(
        reader,
        columns,
        sql`from ${table} join (select name, max(version) as version ${scoped(scope, sql`${table.name} > ${after}`)} group by name) newest
            on newest.name = ${table.name} and newest.version = ${table.version}
          where ${inScope(table, scope)} and ${table.deletedAt} is null and ${table.name} > ${after}
          order by ${table.name} limit ${limit}`,
      ),
    /** @param version the newest when left out; a deleted one is found only by its version */
    find: async (reader: Reader, scope: Where, name: string, version?: number) => {
      const row = await newest(reader, scope, name, version)
      return row === undefined || (version === undefined && row.isDeleted) ? undefined : row
    },
    newest,
    /** Takes one off the list; its versions stay. @returns false when it is not on it */
    delete: async (database: Database, scope: Where, name: string): Promise<boolean> => {
      const { affectedRows } = await database.change(
        sql`update ${table} set deleted_at = utc_timestamp(3)
            where ${inScope(table, scope)} and ${table.name} = ${name} and ${table.deletedAt} is null`,
      )
      return affectedRows > 0
    },
  }
}
