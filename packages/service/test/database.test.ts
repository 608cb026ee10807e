import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import { sql } from 'drizzle-orm'
import { createApp } from '../src/apps/store/apps.ts'
import { Database } from '../src/database/database.ts'
import { DatabaseUnavailable, DuplicateKey } from '../src/database/errors.ts'
import { type Scratch, scratchApp } from './scratch-database.ts'

let scratch: Scratch
let database: Database
beforeAll(async () => {
  ;({ scratch, database } = await scratchApp())
})
afterAll(() => scratch.close())

describe('errors', () => {
  test('a taken name is told by its kind, and no parameter leaks', async () => {
    await expect(
      createApp(database, { slug: 'ferries', name: 'Secret name', identifiers: {}, createdAt: new Date() }),
    ).rejects.toThrow(DuplicateKey)
    const error = await database.use((db) => db.execute('select * from nowhere')).catch((one: unknown) => one as Error)
    expect(String(error)).toMatch(/ER_NO_SUCH_TABLE/)
  })
  test('a database that is not there is told by its kind', async () => {
    const nowhere = new Database({ url: 'mysql://a:b@127.0.0.1:1/c', connections: 2 })
    await expect(nowhere.rows(sql`select 1`)).rejects.toThrow(DatabaseUnavailable)
    await nowhere.close()
  })
})

describe('statements that go together', () => {
  const topic = (name: string) =>
    sql`insert into topics (app_no, environment, name, declared, created_at) values (1, 'development', ${name}, 1, now())`
  const names = async () =>
    (await database.rows<{ name: string }>(sql`select name from topics order by name`)).map(({ name }) => name)

  test('are all stored or none, and leave no transaction open', async () => {
    const asked = await database.compound<{ no: number }>(
      [topic('route-1'), topic('route-2')],
      sql`select last_insert_id() as no`,
    )
    expect(asked[0]?.no).toBeGreaterThan(0)
    await expect(database.compound([topic('route-3'), topic('route-1')], sql`select 1`)).rejects.toBeInstanceOf(
      DuplicateKey,
    )
    expect(await names()).toEqual(['route-1', 'route-2'])
    // Were a transaction open on one of the pool's connections, what goes over it now would be lost.
    for (let i = 0; i < 20; i++)
      await database.change(
        sql`insert into topics (app_no, environment, name, declared, created_at) values (${1}, ${'development'}, ${`t-${i}`}, ${1}, ${new Date()})`,
      )
    expect(await scratch.another().rows(sql`select 1 from topics`)).toHaveLength(22)
    await database.change(sql`delete from topics`)
  })
  test('carry text as text, whatever it looks like', async () => {
    const nasty = "x'); drop table topics; -- \\ ? @a \u0000"
    await database.compound(
      [topic('plain'), sql`update topics set title = ${nasty} where name = ${'plain'}`],
      sql`select 1`,
    )
    const [row] = await database.rows<{ title: string }>(sql`select title from topics where name = 'plain'`)
    expect(row?.title).toBe(nasty)
    await database.change(sql`delete from topics`)
  })
})
