import { readdirSync, readFileSync } from 'node:fs'
import { is, SQL } from 'drizzle-orm'
import { getTableConfig, type MySqlColumn, MySqlTable } from 'drizzle-orm/mysql-core'
import * as own from '../src/database/migration-tables.ts'
import * as schema from '../src/database/schema.ts'

const folder = new URL('../src/database/', import.meta.url)

/** What the comment in front of each table says. */
function comments(): ReadonlyMap<string, string> {
  const files = [...readdirSync(new URL('schema/', folder)).map((name) => `schema/${name}`), 'migration-tables.ts']
  const found = files.flatMap((file) => [
    ...readFileSync(new URL(file, folder), 'utf8').matchAll(
      /\/\*\*((?:(?!\*\/)[\s\S])*)\*\/\nexport const \w+ = mysqlTable\(\s*'(\w+)'/g,
    ),
  ])
  return new Map(
    found.map(([, text = '', name = '']) => [
      name,
      text
        .replace(/^\s*\* ?/gm, '')
        .replace(/\s+/g, ' ')
        .trim(),
    ]),
  )
}

const typeOf = (column: MySqlColumn): string =>
  column
    .getSQLType()
    .replace(/ character set .*/, '')
    .replace(/^enum\((.*)\)$/, (_, values: string) => values.replaceAll("'", '').split(',').join('/'))

const keyColumn = (one: unknown): string => (is(one, SQL) ? 'the beginning of a text' : (one as MySqlColumn).name)

/** The tables as docs/architecture.md has them. */
export function schemaPage(): string {
  const said = comments()
  const tables = Object.values({ ...schema, ...own })
    .filter((one) => is(one, MySqlTable))
    .map((table) => getTableConfig(table))
    .sort((a, b) => a.name.localeCompare(b.name))
  const rows = tables.map(({ name, columns, indexes, primaryKeys, foreignKeys }) => {
    const primary = primaryKeys[0]?.columns ?? columns.filter((column) => column.primary)
    const keys = [
      `**${primary.map((column) => column.name).join(', ')}**`,
      ...indexes.map(
        ({ config }) =>
          `${config.unique ? 'unique ' : ''}\`${config.name}\` (${config.columns.map(keyColumn).join(', ')})`,
      ),
      ...foreignKeys.map((key) => `→ \`${getTableConfig(key.reference().foreignTable).name}\``),
    ]
    const list = columns.map((column) => `${column.name} ${typeOf(column)}${column.notNull ? '' : '?'}`)
    return `| \`${name}\` | ${said.get(name) ?? ''} | ${list.join(', ')} | ${keys.join('; ')} |`
  })
  return ['| table | what it holds | columns (`?`: may be null) | keys |', '|---|---|---|---|', ...rows].join('\n')
}
