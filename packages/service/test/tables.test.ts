import { readFileSync, writeFileSync } from 'node:fs'
import { afterAll, beforeAll, expect, test } from '@jest/globals'
import { is, SQL, sql } from 'drizzle-orm'
import { getTableConfig, type MySqlColumn, MySqlTable } from 'drizzle-orm/mysql-core'
import * as own from '../src/database/migration-tables.ts'
import * as schema from '../src/database/schema.ts'
import { schemaPage } from './schema-page.ts'
import { type Scratch, scratchApp } from './scratch-database.ts'

let scratch: Scratch
beforeAll(async () => {
  ;({ scratch } = await scratchApp())
})
afterAll(() => scratch.close())

const defined = Object.values({ ...schema, ...own })
  .filter((one) => is(one, MySqlTable))
  .map((table) => getTableConfig(table))
  .sort((a, b) => a.name.localeCompare(b.name))

/** The server tells the width of a whole number, keeps JSON as text and a boolean as a number. */
const plainType = (type: string): string =>
  type
    .replaceAll(', ', ',')
    .replace(/^tinyint\(1\)$/, 'boolean')
    .replace(/^(bigint|int|smallint|tinyint)\(\d+\)/, '$1')
    .replace(/ character set (\w+) collate (\w+)$/, '')

const collationOf = (column: MySqlColumn): string | null => {
  const type = column.getSQLType()
  return / collate (\w+)$/.exec(type)?.[1] ?? (type === 'json' || type.startsWith('enum') ? 'utf8mb4_bin' : null)
}

/** As the server writes a default. */
function defaultOf({ default: value, notNull }: MySqlColumn): string | null {
  if (value === undefined) return notNull ? null : 'NULL'
  if (is(value, SQL)) return value.queryChunks.map((one) => (one as { value: string[] }).value.join('')).join('')
  return typeof value === 'string' ? `'${value}'` : String(Number(value))
}

test('every table of the database is in the schema, and none more', async () => {
  const rows = await scratch.database.rows<{ name: string }>(
    sql`select table_name as name from information_schema.tables where table_schema = database() order by 1`,
  )
  expect(rows.map(({ name }) => name).sort((a, b) => a.localeCompare(b))).toEqual(defined.map(({ name }) => name))
})

test.each(defined.map((one) => [one.name, one] as const))('%s has the columns of the schema', async (name, config) => {
  const rows = await scratch.database.rows<Record<string, string | null>>(
    sql`select column_name as \`column\`, column_type as type, is_nullable as nullable, collation_name as collation,
          column_default as byDefault, extra, generation_expression as generated
        from information_schema.columns where table_schema = database() and table_name = ${name} order by ordinal_position`,
  )
  expect(
    rows.map(({ type, nullable, byDefault, extra, generated, ...row }) => ({
      ...row,
      type: type === 'longtext' ? 'json' : plainType(type ?? ''),
      nullable: nullable === 'YES',
      // A key has no default, and what is computed none of its own.
      byDefault: generated === null ? byDefault : null,
      counts: extra === 'auto_increment',
      generated: generated !== null,
    })),
  ).toEqual(
    config.columns.map((column) => ({
      column: column.name,
      type: plainType(column.getSQLType()),
      nullable: !column.notNull,
      collation: collationOf(column),
      byDefault: column.generated ? null : defaultOf(column),
      counts: 'autoIncrement' in column && column.autoIncrement === true,
      generated: column.generated !== undefined,
    })),
  )
})

type Key = { readonly name: string; readonly unique: boolean; readonly columns: readonly string[] }

test.each(defined.map((one) => [one.name, one] as const))('%s has the keys of the schema', async (name, config) => {
  const rows = await scratch.database.rows<{ name: string; isMany: number; column: string; part: number | null }>(
    sql`select index_name as name, non_unique as isMany, column_name as \`column\`, sub_part as part
        from information_schema.statistics where table_schema = database() and table_name = ${name}
        order by index_name, seq_in_index`,
  )
  const migrated = new Map<string, Key>()
  for (const row of rows) {
    const columns = [
      ...(migrated.get(row.name)?.columns ?? []),
      row.part === null ? row.column : `${row.column}(${row.part})`,
    ]
    migrated.set(row.name, { name: row.name, unique: Number(row.isMany) === 0, columns })
  }
  const columnOf = (one: unknown) =>
    is(one, SQL)
      ? one.queryChunks
          .map((chunk) => (chunk as { value: string[] }).value.join(''))
          .join('')
          .replaceAll('`', '')
      : (one as MySqlColumn).name
  const primary = config.primaryKeys[0]?.columns ?? config.columns.filter(({ primary }) => primary)
  const keys: Key[] = [
    { name: 'PRIMARY', unique: true, columns: primary.map((column) => column.name) },
    ...config.indexes.map(({ config: index }) => ({
      name: index.name,
      unique: index.unique === true,
      columns: index.columns.map(columnOf),
    })),
  ]
  const byName = (a: Key, b: Key) => (a.name < b.name ? -1 : 1)
  expect([...migrated.values()].sort(byName)).toEqual(keys.sort(byName))
})

test('foreign keys are those of the schema', async () => {
  const rows = await scratch.database.rows<{ table: string; to: string; columns: string; onDelete: string }>(
    sql`select r.table_name as \`table\`, r.referenced_table_name as \`to\`, r.delete_rule as onDelete,
          group_concat(k.column_name order by k.ordinal_position) as columns
        from information_schema.referential_constraints r join information_schema.key_column_usage k
          on k.constraint_schema = r.constraint_schema and k.constraint_name = r.constraint_name
        where r.constraint_schema = database() group by r.constraint_name order by 1, 2`,
  )
  const keys = defined.flatMap(({ name, foreignKeys }) =>
    foreignKeys.map((key) => {
      const { columns, foreignTable } = key.reference()
      return {
        table: name,
        to: getTableConfig(foreignTable).name,
        onDelete: (key.onDelete ?? 'no action').toUpperCase(),
        columns: columns.map((column) => column.name).join(','),
      }
    }),
  )
  expect(rows).toEqual(keys)
})

test('the page about the architecture has the schema as it is', () => {
  const file = new URL('../../../docs/architecture.md', import.meta.url)
  const page = readFileSync(file, 'utf8')
  const [begin, end] = ['<!-- schema -->\n', '\n<!-- end of schema -->']
  const [from, to] = [page.indexOf(begin) + begin.length, page.indexOf(end)]
  if (process.env.SCHEMA === 'write') writeFileSync(file, page.slice(0, from) + schemaPage() + page.slice(to))
  expect(readFileSync(file, 'utf8').slice(from).split(end)[0]).toBe(schemaPage())
})
