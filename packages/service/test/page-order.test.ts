import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import { directions } from '@zbell/contract'
import { sql } from 'drizzle-orm'
import fc from 'fast-check'
import type { Database } from '../src/database/database.ts'
import { inOrder, type Placed, placeOf, type SortKey } from '../src/database/page-order.ts'
import { type Scratch, scratchDatabase } from './scratch-database.ts'

let scratch: Scratch
let database: Database
beforeAll(async () => {
  scratch = await scratchDatabase()
  database = scratch.database
  await database.change(
    sql`create table boats (no bigint auto_increment primary key, name varchar(20) character set utf8mb4 collate utf8mb4_bin, draught double, built datetime(3))`,
  )
})
afterAll(() => scratch.close())

const keys: Record<'no' | 'name' | 'draught' | 'built', SortKey> = {
  no: { by: sql`b.no`, isNumber: true },
  name: { by: sql`b.name`, nullable: true },
  draught: { by: sql`b.draught`, nullable: true },
  built: { by: sql`b.built`, nullable: true },
}
type Boat = { name: string | null; draught: number | null; built: Date | null }
type Row = Boat & Placed

async function page(key: SortKey, direction: (typeof directions)[number], after: string | undefined, limit: number) {
  const { column, where, orderBy } = inOrder(key, sql`b.no`, direction, after)
  return database.rows<Row>(sql`select b.*, ${column} from boats b where ${where} order by ${orderBy} limit ${limit}`)
}

const boat: fc.Arbitrary<Boat> = fc.record({
  name: fc.option(fc.constantFrom('Kittiwake', 'Sandpiper', 'Turnstone', 'ærfugl', '')),
  draught: fc.option(fc.double({ min: -1e9, max: 1e9, noNaN: true, noDefaultInfinity: true })),
  built: fc.option(fc.date({ min: new Date('1970-01-02'), max: new Date('2100-01-01'), noInvalidDate: true })),
})

describe('pages of a list in order', () => {
  test.each(Object.keys(keys) as (keyof typeof keys)[])(
    'by %s, have every row once, in order, whatever the page’s size',
    async (name) => {
      await fc.assert(
        fc.asyncProperty(
          fc.array(boat, { minLength: 1, maxLength: 12 }),
          fc.constantFrom(...directions),
          fc.integer({ min: 1, max: 5 }),
          async (boats, direction, size) => {
            await database.change(sql`delete from boats`)
            for (const one of boats)
              await database.change(
                sql`insert into boats (name, draught, built) values (${one.name}, ${one.draught}, ${one.built})`,
              )
            const all = await page(keys[name], direction, undefined, 1_000)
            const found: Row[] = []
            for (let after: string | undefined; ; ) {
              const rows = await page(keys[name], direction, after, size)
              found.push(...rows)
              const last = rows.at(-1)
              if (!last || rows.length < size) break
              after = placeOf(last)
            }
            expect(found.map(({ no }) => no)).toEqual(all.map(({ no }) => no))
            expect(new Set(found.map(({ no }) => no)).size).toBe(boats.length)
            // What has no value comes last, whichever way the others go.
            const blank = found.map((row) => row.sortedBy === null)
            expect(blank).toEqual([...blank].sort((a, b) => Number(a) - Number(b)))
          },
        ),
        { numRuns: 15 },
      )
    },
    60_000,
  )

  test('a row that comes or goes moves no other across a page’s edge', async () => {
    await database.change(sql`delete from boats`)
    for (const name of ['a', 'b', 'd', 'e']) await database.change(sql`insert into boats (name) values (${name})`)
    const first = await page(keys.name, 'ascending', undefined, 2)
    await database.change(sql`insert into boats (name) values ('aa'), ('c')`)
    await database.change(sql`delete from boats where name = 'b'`)
    const second = await page(keys.name, 'ascending', placeOf(first.at(-1)!), 10)
    expect(second.map(({ name }) => name)).toEqual(['c', 'd', 'e'])
  })

  test.each([
    '',
    'nonsense',
    'bm9uc2Vuc2U',
    Buffer.from('[1,2,3]').toString('base64url'),
    Buffer.from('[{},1]').toString('base64url'),
  ])('behind a place that is none there is nothing: %j', async (after) =>
    expect(await page(keys.name, 'ascending', after, 10)).toEqual([]),
  )
})
