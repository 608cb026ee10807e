import { Column, getTableName, is, Name, Param, SQL, type SQLWrapper, StringChunk, sql, Table } from 'drizzle-orm'
import { MySqlDialect } from 'drizzle-orm/mysql-core'
import { drizzle, type MySql2Database } from 'drizzle-orm/mysql2'

/** A statement as the driver takes it: a `?` for each value. */
type Statement = { readonly sql: string; readonly values: unknown[] }

const dialect = new MySqlDialect()

/**
 * Builds statements that change rows, typed by the schema; `change` of a database or of a transaction runs them. Columns are set in
 * the order of the schema: a statement in which one column's new value asks for another's old one is written as a fragment.
 * @example await tx.change(build.update(topics).set({ name }).where(eq(topics.no, no)))
 */
export const build: Pick<MySql2Database, 'insert' | 'update' | 'delete'> = drizzle.mock()

/** A fragment, or a statement of the builder's: that its `delete` has `getSQL` like the others its types leave out. */
export type Change = SQLWrapper | { toSQL(): unknown }

/** What the database's clock says. */
export const now: SQL<Date> = sql`utc_timestamp(3)`

/** In `onDuplicateKeyUpdate`: what was to be inserted. */
export const incoming = (column: Column): SQL => sql`value(${column})`

/**
 * Turns a fragment of Drizzle's (`` sql`select …
   where no = ${no}` ``), or what its builder has built, into text and values. Most
 * are made of text, values, lists and other fragments only; these are put together here, in a quarter of the time that Drizzle's
 * own way takes, and a list of thousands stays one value. Whatever else stands in a fragment Drizzle compiles.
 * @example compile(sql`select no from users where name in ${['ada', 'bo']}`)
 * // { sql: 'select no from users where name in (?)', values: [['ada', 'bo']] }
 */
export function compile(statement: Change): Statement {
  const fragment = fragmentOf(statement)
  const values: unknown[] = []
  const text = textOf(fragment.queryChunks, values)
  if (text !== undefined) return { sql: text, values }
  const { sql: built, params } = dialect.sqlToQuery(fragment)
  return { sql: built, values: params }
}

/** The builder leaves a clause that is not there undefined; in a fragment of ours that is a fault. */
export function fragmentOf(statement: Change): SQL {
  if (statement instanceof SQL) return statement
  return new SQL((statement as SQLWrapper).getSQL().queryChunks.filter((chunk) => chunk !== undefined))
}

/** @returns undefined where something stands in it that only Drizzle knows */
function textOf(chunks: readonly unknown[], values: unknown[]): string | undefined {
  let text = ''
  for (const chunk of chunks) {
    const one = textOfOne(chunk, values)
    if (one === undefined) return undefined
    text += one
  }
  return text
}

function textOfOne(chunk: unknown, values: unknown[]): string | undefined {
  if (chunk instanceof StringChunk) return chunk.value.length === 1 ? chunk.value[0] : chunk.value.join('')
  if (chunk instanceof SQL) return textOf(chunk.queryChunks, values)
  if (Array.isArray(chunk)) return textOfList(chunk, values)
  if (is(chunk, Column)) return `\`${getTableName(chunk.table)}\`.\`${chunk.name}\``
  if (is(chunk, Table)) return `\`${getTableName(chunk)}\``
  if (is(chunk, Name)) return `\`${chunk.value}\``
  const value = chunk instanceof Tuples ? chunk.rows : is(chunk, Param) ? encoded(chunk) : chunk
  if (value instanceof SQL) return textOf(value.queryChunks, values)
  if (!(chunk instanceof Tuples) && !isValue(value)) return undefined
  values.push(value)
  return '?'
}

/** Values stay one list down to the driver; what the builder lists besides (names, fragments) is written one after the other. */
function textOfList(list: readonly unknown[], values: unknown[]): string | undefined {
  if (list.every((one) => is(one, Param) && !(one.value instanceof SQL))) {
    values.push(list.map((one) => encoded(one as Param)))
    return '(?)'
  }
  if (!list.some((one) => one instanceof SQL || is(one, Name) || is(one, Param))) {
    values.push(list)
    return '(?)'
  }
  const parts: string[] = []
  for (const one of list) {
    const text = textOfOne(one, values)
    if (text === undefined) return undefined
    parts.push(text)
  }
  return `(${parts.join(', ')})`
}

/** A value as its column writes it. */
function encoded({ value, encoder }: Param): unknown {
  return value === null || value === undefined || value instanceof SQL ? value : encoder.mapToDriverValue(value)
}

/** @throws {TypeError} for `undefined`: the builder would leave it out, the driver would write `null`, and neither was meant */
function isValue(chunk: unknown): boolean {
  if (chunk === undefined) throw new TypeError('a statement was given a value that is undefined')
  return chunk === null || typeof chunk !== 'object' || chunk instanceof Date || Buffer.isBuffer(chunk)
}

class Tuples implements SQLWrapper {
  readonly rows: readonly (readonly unknown[])[]

  constructor(rows: readonly (readonly unknown[])[]) {
    this.rows = rows
  }

  /** Asked by the builder. */
  shouldOmitSQLParens(): true {
    return true
  }

  getSQL(): SQL {
    return sql.join(
      this.rows.map((row) => sql`${row}`),
      sql`, `,
    )
  }
}

/**
 * Rows to insert: `(1, 'a'), (2, 'b')`. They stay one value down to the driver, which writes thousands of them at once.
 * @param rows at least one
 * @example sql`insert into topics (app_no, name) values ${tuples([[1, 'route-4'], [1, 'weather']])}`
 */
export const tuples = (rows: readonly (readonly unknown[])[]): SQLWrapper => new Tuples(rows)

/** Values, or fragments, one after the other: `1, 'a', null`. @param parts at least one */
export const commas = (parts: readonly unknown[]): SQL =>
  sql.join(
    parts.map((part) => sql`${part}`),
    sql`, `,
  )

/** Conditions that all hold: `a and b`. @param conditions at least one */
export const allOf = (conditions: readonly SQL[]): SQL => sql.join([...conditions], sql` and `)

/** Conditions of which one holds: `(a or b)`. @param conditions at least one */
export const anyOf = (conditions: readonly SQL[]): SQL => sql`(${sql.join([...conditions], sql` or `)})`

/** That a column has none of some values, of which there may be none. */
export const noneOf = (column: SQL, values: readonly (number | string)[]): SQL =>
  values.length === 0 ? sql`true` : sql`${column} not in ${values}`
