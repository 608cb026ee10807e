import { afterAll, beforeAll, expect, test } from '@jest/globals'
import { sql } from 'drizzle-orm'
import fc from 'fast-check'
import { inScope } from '../../../e2e/harness/scope.ts'
import type { Database } from '../src/database/database.ts'
import { migrate, SchemaTooNew, SchemaTooOld } from '../src/database/migrate.ts'
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

async function dropAll(): Promise<void> {
  // Those that others refer to go last.
  const names = (await tables()).sort((a, b) => Number(isReferredTo(a)) - Number(isReferredTo(b)))
  for (const name of names) await database.change(sql`drop table ${sql.raw(name)}`)
}
const isReferredTo = (name: string) => ['apps', 'accounts'].includes(name)

const steps = migrations.flatMap(({ no, statements }) => statements.map((_, step) => ({ no, step })))

/** The database as a process leaves it that died in the middle of a migration. @param noted whether it still noted the step */
async function diedAt({ no, step }: { no: number; step: number }, noted: boolean): Promise<void> {
  await dropAll()
  await database.change(
    sql`create table migrations (no int not null primary key, name varchar(80) character set ascii collate ascii_bin not null, done_at datetime(3) not null)`,
  )
  await database.change(
    sql`create table migration_steps (no int not null, step int not null, done_at datetime(3) not null, primary key (no, step))`,
  )
  for (const migration of migrations.filter((one) => one.no <= no)) {
    for (const [at, statement] of migration.statements.entries()) {
      if (migration.no === no && at > step) return
      await database.change(sql.raw(statement))
      if (migration.no < no || at < step || noted)
        await database.change(sql`insert into migration_steps values (${migration.no}, ${at}, now())`)
    }
    if (migration.no === no) return
    await database.change(sql`insert into migrations values (${migration.no}, ${migration.name}, now())`)
    await database.change(sql`delete from migration_steps where no = ${migration.no}`)
  }
}

test('a migration that died after any of its steps, noted or not, is gone on with, and makes the same schema', async () => {
  // One of each kind of statement: a table, a foreign key, an index.
  const kinds = [/^create table/i, /foreign key/i, /^create index/i].map((kind) =>
    steps.findLast(({ no, step }) => kind.test(migrations[no - 1]!.statements[step]!)),
  )
  const deaths = fc.record({ at: fc.constantFrom(...steps), noted: fc.boolean() })
  await fc.assert(
    fc.asyncProperty(deaths, async ({ at, noted }) => {
      await diedAt(at, noted)
      await migrate(database)
      expect(await schemaOf()).toEqual(whole)
      expect(await database.rows(sql`select no from migrations`)).toHaveLength(migrations.length)
    }),
    {
      numRuns: inScope({ default: 3, all: 12, long: 200 }),
      examples: kinds.flatMap((at): [{ at: (typeof steps)[number]; noted: boolean }][] =>
        at ? [[{ at, noted: false }]] : [],
      ),
    },
  )
})

test('what is there already without having been half done is a fault, and says so', async () => {
  await diedAt({ no: 1, step: 0 }, true)
  await database.change(sql`create table milestones (no int)`)
  await expect(migrate(database)).rejects.toThrow(/ER_TABLE_EXISTS_ERROR/)
})

test('two processes that start at once make it once', async () => {
  await dropAll()
  const ran = await Promise.all([migrate(database), migrate(scratch.another())])
  expect(ran.map((one) => one.length).sort()).toEqual([0, migrations.length])
  expect(await schemaOf()).toEqual(whole)
})

test('a database of a newer version is refused', async () => {
  await database.change(sql`insert into migrations values (1000, 'later', now())`)
  await expect(migrate(database)).rejects.toThrow(SchemaTooNew)
})

test('the data of a version before the first release is refused in words, and stays as it is', async () => {
  await dropAll()
  await database.change(sql`create table schema_migrations (no int primary key)`)
  await expect(migrate(database)).rejects.toThrow(SchemaTooOld)
  await expect(migrate(database)).rejects.toThrow(/start with an empty data folder or database/)
  expect(await tables()).toEqual(['schema_migrations'])
})
