import { type GetColumnData, is, type SQL, sql } from 'drizzle-orm'
import { MySqlColumn } from 'drizzle-orm/mysql-core'
import type { Reader } from './database.ts'

/** Something that is selected beside columns: an expression, and how its value is read. */
export type Computed<T> = { readonly expression: SQL; read(value: unknown): T }
export type Selected = Readonly<Record<string, MySqlColumn | Computed<unknown>>>
export type RowOf<S extends Selected> = {
  readonly [Name in keyof S]: S[Name] extends MySqlColumn
    ? GetColumnData<S[Name]>
    : S[Name] extends Computed<infer T>
      ? T
      : never
}

const asRead = (value: unknown): unknown => value

/** An expression whose value the driver reads as it is meant. */
export const computed = <T>(expression: SQL, read = asRead as (value: unknown) => T): Computed<T> => ({
  expression,
  read,
})
/** A column that has a value in each row that the statement finds. */
export const present = <C extends MySqlColumn>(column: C): Computed<NonNullable<GetColumnData<C>>> =>
  computed(sql`${column}`, (value) => read(column, value) as NonNullable<GetColumnData<C>>)
/** A condition: the server knows numbers only. */
export const condition = (expression: SQL): Computed<boolean> => computed(expression, (value) => value === 1)

/**
 * Selects rows that are typed and read as the schema says: identifiers, truth values, JSON.
 * @param rest from `from` on, with tables and columns of the schema
 * @example select(reader, { no: topics.no, name: topics.name }, sql`from ${topics} where ${topics.name} > ${after}`)
 */
export async function select<S extends Selected>(reader: Reader, selected: S, rest: SQL): Promise<RowOf<S>[]> {
  const entries = Object.entries(selected)
  const list = sql.join(
    entries.map(([name, one]) => sql`${isColumn(one) ? one : one.expression} as ${sql.identifier(name)}`),
    sql`, `,
  )
  const rows = await reader.rows<Record<string, unknown>>(sql`select ${list} ${rest}`)
  // In place: there can be tens of thousands, and most values are as the driver reads them.
  const toRead = entries.filter(([, one]) => isColumn(one) || one.read !== asRead)
  for (const row of rows) for (const [name, one] of toRead) row[name] = read(one, row[name])
  return rows as RowOf<S>[]
}

const isColumn = (one: MySqlColumn | Computed<unknown>): one is MySqlColumn => is(one, MySqlColumn)

function read(one: MySqlColumn | Computed<unknown>, value: unknown): unknown {
  if (!isColumn(one)) return one.read(value)
  // Dates are read by the driver.
  return value === null || value instanceof Date ? value : one.mapFromDriverValue(value)
}
