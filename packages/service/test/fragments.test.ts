import { describe, expect, test } from '@jest/globals'
import { and, eq, inArray, isNull, type SQL, sql } from 'drizzle-orm'
import { MySqlDialect } from 'drizzle-orm/mysql-core'
import { format, type SqlValue } from 'mysql2'
import { allOf, anyOf, build, type Change, commas, compile, incoming, now, tuples } from '../src/database/fragments.ts'
import { attributes, devices, templates, topics } from '../src/database/schema.ts'

const dialect = new MySqlDialect()
/** What the server gets to read. */
const written = (fragment: Change) => {
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

describe('a statement of the builder', () => {
  const id = '018bcfe5-6800-7fff-bfff-000000000001'
  const at = new Date('2026-11-24T06:30:00.125Z')

  test.each<[string, Change, string]>([
    [
      'sets what it was given, as each column writes it',
      build
        .update(devices)
        .set({ muted: true, seenAt: now, retiredAt: at, locale: undefined })
        .where(eq(devices.id, id)),
      "update `devices` set `muted` = true, `seen_at` = utc_timestamp(3), `retired_at` = '2026-11-24 06:30:00.125' where `devices`.`id` = X'018bcfe568007fffbfff000000000001'",
    ],
    [
      'writes JSON once',
      build
        .update(templates)
        .set({ content: { title: "Gull's Point" } as never })
        .where(eq(templates.no, 1)),
      'update `templates` set `content` = \'{\\"title\\":\\"Gull\\\'s Point\\"}\' where `templates`.`no` = 1',
    ],
    [
      'keeps a list in one place, and an empty one finds nothing',
      build
        .delete(topics)
        .where(and(inArray(topics.no, [3, 4]), isNull(topics.title)))
        .limit(10),
      'delete from `topics` where (`topics`.`no` in (3, 4) and `topics`.`title` is null) limit 10',
    ],
    [
      'finds nothing by no value at all',
      build.delete(topics).where(inArray(topics.no, [])),
      'delete from `topics` where false',
    ],
    [
      'inserts, and changes what is there',
      build
        .insert(attributes)
        .values({ appNo: 1, environment: 'production', name: 'pass', type: 'text', createdAt: now })
        .onDuplicateKeyUpdate({ set: { type: incoming(attributes.type) } }),
      "insert into `attributes` (`no`, `app_no`, `environment`, `name`, `type`, `devices_may`, `created_at`) values (default, 1, 'production', 'pass', 'text', default, utc_timestamp(3)) on duplicate key update `type` = value(`attributes`.`type`)",
    ],
  ])('%s', (_what, statement, expected) => {
    expect(written(statement)).toBe(expected)
  })

  test('takes a fragment in its place, where a value that is undefined is a fault', () => {
    const longer = (by: unknown) => build.update(topics).set({ title: sql`concat(title, ${by})` })
    expect(written(longer('!'))).toBe("update `topics` set `title` = concat(title, '!')")
    expect(() => compile(longer(undefined))).toThrow(/undefined/)
  })
})
