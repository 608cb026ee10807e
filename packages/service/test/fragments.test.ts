import { describe, expect, test } from '@jest/globals'
import { type SQL, sql } from 'drizzle-orm'
import { MySqlDialect } from 'drizzle-orm/mysql-core'
import { format, type SqlValue } from 'mysql2'
import { allOf, anyOf, commas, compile, tuples } from '../src/database/fragments.ts'
import { devices } from '../src/database/schema.ts'

const dialect = new MySqlDialect()
/** What the server gets to read. */
const written = (fragment: SQL) => {
  const { sql: text, values } = compile(fragment)
  return format(text, values as SqlValue[]).replace(/\s+/g, ' ')
}
const writtenByBuilder = (fragment: SQL) => {
  const { sql: text, params } = dialect.sqlToQuery(fragment)
  return format(text, params as SqlValue[]).replace(/\s+/g, ' ')
}

describe('a fragment', () => {
  test.each<[string, SQL, string]>([
    ['a value', sql`no = ${12}`, 'no = 12'],
    ['null, a truth and a text', sql`(${null}, ${false}, ${"Gull's Point"})`, "(NULL, false, 'Gull\\'s Point')"],
    ['bytes', sql`id = ${Buffer.from('0a0b', 'hex')}`, "id = X'0a0b'"],
    ['a list', sql`name in ${['route-1', 'route-4']}`, "name in ('route-1', 'route-4')"],
    ['a list of tuples', sql`(a, b) in ${[[1, 2], [3, 4]]}`, '(a, b) in ((1, 2), (3, 4))'],
    ['another fragment', sql`select 1 where ${sql`no > ${3}`} limit ${1}`, 'select 1 where no > 3 limit 1'],
    ['nothing', sql`select 1 ${sql``}`, 'select 1 '],
    [
      'rows',
      sql`values ${tuples([
        [1, 'a'],
        [2, null],
      ])}`,
      "values (1, 'a'), (2, NULL)",
    ],
    ['several values', sql`values (${commas([1, sql`now()`, null])})`, 'values (1, now(), NULL)'],
    ['conditions', sql`${allOf([sql`a = ${1}`, anyOf([sql`b`, sql`c`])])}`, 'a = 1 and (b or c)'],
    [
      'a text that looks like SQL',
      sql`name = ${"'; drop table devices; -- ?"}`,
      "name = '\\'; drop table devices; -- ?'",
    ],
  ])('with %s is written as the builder would write it', (_what, fragment, expected) => {
    expect(written(fragment)).toBe(expected)
    expect(writtenByBuilder(fragment)).toBe(expected)
  })

  test('with columns of a table is compiled by the builder', () => {
    expect(written(sql`select ${devices.no} from ${devices} where ${devices.platform} = ${'ios'}`)).toBe(
      "select `devices`.`no` from `devices` where `devices`.`platform` = 'ios'",
    )
  })

  test('with a value that is undefined is a fault of whoever wrote it', () => {
    expect(() => compile(sql`no = ${undefined}`)).toThrow(/undefined/)
  })

  test('of thousands of rows stays one value', () => {
    const rows = Array.from({ length: 5_000 }, (_, i) => [i, 'x'])
    expect(compile(sql`values ${tuples(rows)}`)).toEqual({ sql: 'values ?', values: [rows] })
  })
})
