import { afterAll, beforeAll, expect, test } from '@jest/globals'
import { sql } from 'drizzle-orm'
import fc from 'fast-check'
import { inScope } from '../../../e2e/harness/scope.ts'
import type { Database } from '../src/database/database.ts'
import { migrate } from '../src/database/migrate.ts'
import { migrations } from '../src/database/migrations/index.ts'
import { type Scratch, scratchDatabase } from './scratch-database.ts'

let scratch: Scratch
let database: Database
let whole: string[]
beforeAll(async () => {
  scratch = await scratchDatabase()
  database = scratch.database
  await migrate(database)
  whole = await schemaOf()
})
afterAll(() => scratch.close())

const tables = async () =>
  (
    await database.rows<{ name: string }>(
      sql`select table_name as name from information_schema.tables where table_schema = database() order by 1`,
    )
  ).map(({ name }) => name)

/** Every table as the server has it. */
async function schemaOf(): Promise<string[]> {
  const all: string[] = []
  for (const name of await tables()) {
    const [made] = await database.rows<Record<string, string>>(sql`show create table ${sql.raw(name)}`)
    all.push(made!['Create Table']!.replace(/ AUTO_INCREMENT=\d+/, ''))
  }
  return all
}

const steps = migrations.flatMap(({ no, statements }) => statements.map((_, step) => ({ no, step })))

/** The database as a process leaves it that died in the middle of a migration. @param noted whether it still noted the step */
async function diedAt({ no, step }: { no: number; step: number }, noted: boolean): Promise<void> {
  for (const name of await tables()) await database.change(sql`drop table ${sql.raw(name)}`)
  await database.change(
    sql`create table schema_lease (one tinyint primary key, owner binary(16) not null, until_at datetime(3) not null)`,
  )
  await database.change(
    sql`create table schema_migrations (no int primary key, name varchar(80) not null, done_at datetime(3) not null)`,
  )
  await database.change(
    sql`create table schema_steps (no int not null, step int not null, done_at datetime(3) not null, primary key (no, step))`,
  )
  for (const migration of migrations.filter((one) => one.no <= no)) {
    for (const [at, statement] of migration.statements.entries()) {
      if (migration.no === no && at > step) return
      await database.change(sql.raw(statement))
      if (migration.no < no || at < step || noted)
        await database.change(sql`insert into schema_steps values (${migration.no}, ${at}, now())`)
    }
    if (migration.no === no) return
    await database.change(sql`insert into schema_migrations values (${migration.no}, ${migration.name}, now())`)
    await database.change(sql`delete from schema_steps where no = ${migration.no}`)
  }
}

test('a migration that died after any of its steps, noted or not, is gone on with, and makes the same schema', async () => {
  const newest = steps.filter(({ no }) => no > migrations.length - 2)
  const deaths = fc.record({ at: fc.constantFrom(...steps), noted: fc.boolean() })
  await fc.assert(
    fc.asyncProperty(deaths, async ({ at, noted }) => {
      await diedAt(at, noted)
      await migrate(database)
      expect(await schemaOf()).toEqual(whole)
      expect(await database.rows(sql`select no from schema_migrations`)).toHaveLength(migrations.length)
    }),
    // The newest are what a running database meets next.
    { numRuns: inScope({ default: 4, all: 12, long: 200 }), examples: newest.map((at) => [{ at, noted: false }]) },
  )
})

test('what is there already without having been half done is a fault, and says so', async () => {
  await diedAt({ no: 2, step: 0 }, true)
  await database.change(sql`create table milestones (no int)`)
  await expect(migrate(database)).rejects.toThrow(/ER_TABLE_EXISTS_ERROR/)
})

test.each([
  ['whole', undefined],
  ['that died on the way', 3],
])(
  'the queue of the version before goes on by a migration %s: what was due, leased or paused is so still',
  async (_how, step) => {
    await diedAt({ no: 12, step: 0 }, true)
    await database.change(
      sql`insert into notifications (id, app_no, environment, state, target, content, urgency, mode, ttl_seconds, sent_by, request_hash,
       created_at, expires_at, changed_at)
     values (unhex(repeat('1', 32)), 1, 'production', 'sending', '{}', '{}', 1, 'show', 60, 'test', repeat('x', 32), now(3), now(3), now(3))`,
    )
    const works: [string, boolean, string][] = [
      ['due', false, 'utc_timestamp(3) - interval 1 hour'],
      ['later', false, 'utc_timestamp(3) + interval 1 hour'],
      ['leased', true, 'utc_timestamp(3) + interval 10 second'],
      ['paused', false, 'utc_timestamp(3) + interval 2 hour + interval 1000 year'],
    ]
    for (const [devices, leased, at] of works)
      await database.change(
        sql`insert into work (kind, app_no, notification_no, urgency, available_at, leased, devices)
       values ('send', 1, (select max(no) from notifications), 1, ${sql.raw(at)}, ${leased}, ${devices})`,
      )
    if (step !== undefined) {
      const { statements } = migrations.find(({ no }) => no === 13)!
      for (const [at, statement] of statements.slice(0, step + 1).entries()) {
        await database.change(sql.raw(statement))
        if (at < step) await database.change(sql`insert into schema_steps values (13, ${at}, now())`)
      }
    }
    await migrate(database)
    const rows = await database.rows(
      sql`select convert(body using utf8mb4) as name, environment, suspended,
       round(timestampdiff(second, utc_timestamp(3), due_at) / 3600) as dueInHours,
       leased_until > utc_timestamp(3) as leased
     from work order by no`,
    )
    const common = { environment: 'production', suspended: 0, leased: null }
    expect(rows.map((row) => ({ ...row, dueInHours: Number(row.dueInHours) + 0 }))).toEqual([
      { ...common, name: 'due', dueInHours: -1 },
      { ...common, name: 'later', dueInHours: 1 },
      { ...common, name: 'leased', dueInHours: 0, leased: 1 },
      { ...common, name: 'paused', dueInHours: 2, suspended: 1 },
    ])
  },
)
