import { afterAll, beforeAll, expect, test } from '@jest/globals'
import { is, sql } from 'drizzle-orm'
import { getTableConfig, MySqlTable } from 'drizzle-orm/mysql-core'
import * as tables from '../src/database/schema.ts'
import { type Scratch, scratchApp } from './scratch-database.ts'

let scratch: Scratch
beforeAll(async () => {
  ;({ scratch } = await scratchApp())
})
afterAll(() => scratch.close())

type Column = { readonly column: string; readonly type: string; readonly nullable: boolean }

/** The server tells the width of a whole number and keeps JSON as text and a boolean as a number. */
const plainType = (type: string): string =>
  type
    .replaceAll(', ', ',')
    .replace(/^tinyint\(1\)$/, 'boolean')
    .replace(/^longtext$/, 'json')
    .replace(/^(bigint|int|smallint|tinyint)\(\d+\)/, '$1')

test('each table is defined as the migrations make it, column by column', async () => {
  const rows = await scratch.database.rows<{ tableName: string; column: string; type: string; nullable: string }>(
    sql`select table_name as tableName, column_name as \`column\`, column_type as type, is_nullable as nullable
     from information_schema.columns where table_schema = database() order by table_name, ordinal_position`,
  )
  const migrated = new Map<string, Column[]>()
  for (const { tableName, column, type, nullable } of rows)
    migrated.set(tableName, [
      ...(migrated.get(tableName) ?? []),
      { column, type: plainType(type), nullable: nullable === 'YES' },
    ])
  const defined = new Map(
    Object.values(tables)
      .filter((one) => is(one, MySqlTable))
      .map((table) => {
        const { name, columns } = getTableConfig(table)
        return [
          name,
          columns.map((column) => ({
            column: column.name,
            type: plainType(column.getSQLType()),
            nullable: !column.notNull,
          })),
        ]
      }),
  )
  const inOrder = (columns: readonly Column[] = []) => [...columns].sort((a, b) => (a.column < b.column ? -1 : 1))
  expect([...defined.keys()].sort()).toEqual([...migrated.keys()].sort())
  for (const [name, columns] of migrated) expect([name, inOrder(defined.get(name))]).toEqual([name, inOrder(columns)])
})
