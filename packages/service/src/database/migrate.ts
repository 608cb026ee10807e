import { randomBytes } from 'node:crypto'
import { setTimeout as wait } from 'node:timers/promises'
import { sql } from 'drizzle-orm'
import type { Database } from './database.ts'
import { isThereAlready } from './errors.ts'
import { type Migration, migrations } from './migrations/index.ts'

const leaseSeconds = 60
const patienceMs = 120_000

/** The database was made by a newer version of the service. */
export class SchemaTooNew extends Error {
  override readonly name = 'SchemaTooNew'
}

/**
 * Brings the schema up to date. Several processes may start at once: one holds the lease and migrates, the rest wait.
 * A lease row rather than GET_LOCK, which a Galera cluster does not have.
 * @returns the numbers of the migrations that ran
 * @throws {SchemaTooNew} when the database knows more than this code
 */
export async function migrate(database: Database): Promise<number[]> {
  await database.change(
    sql`create table if not exists schema_lease (one tinyint primary key, owner binary(16) not null, until_at datetime(3) not null)`,
  )
  await database.change(
    sql`create table if not exists schema_migrations (no int primary key, name varchar(80) not null, done_at datetime(3) not null)`,
  )
  await database.change(
    sql`create table if not exists schema_steps (no int not null, step int not null, done_at datetime(3) not null, primary key (no, step))`,
  )
  await database.change(sql`insert ignore into schema_lease values (1, repeat('\\0', 16), utc_timestamp(3))`)
  const owner = randomBytes(16)
  const giveUpAt = Date.now() + patienceMs
  while (!(await takeLease(database, owner))) {
    if (Date.now() > giveUpAt)
      throw new Error('another process has held the schema lease for two minutes; is it stuck?')
    await wait(100)
  }
  try {
    return await runMissing(database, owner)
  } finally {
    await database.change(sql`update schema_lease set until_at = utc_timestamp(3) where one = 1 and owner = ${owner}`)
  }
}

async function takeLease(database: Database, owner: Buffer): Promise<boolean> {
  const { affectedRows } = await database.change(
    sql`update schema_lease set owner = ${owner}, until_at = utc_timestamp(3) + interval ${leaseSeconds} second
     where one = 1 and (until_at <= utc_timestamp(3) or owner = ${owner})`,
  )
  return affectedRows === 1
}

async function runMissing(database: Database, owner: Buffer): Promise<number[]> {
  const done = new Set(
    (await database.rows<{ no: number }>(sql`select no from schema_migrations`)).map((row) => row.no),
  )
  const newest = Math.max(0, ...done)
  const known = migrations.at(-1)?.no ?? 0
  if (newest > known) {
    throw new SchemaTooNew(`the database has schema ${newest}, this version knows ${known}; start the newer version`)
  }
  const ran: number[] = []
  for (const migration of migrations) {
    if (done.has(migration.no)) continue
    await runSteps(database, owner, migration)
    await database.change(
      sql`insert into schema_migrations values (${migration.no}, ${migration.name}, utc_timestamp(3))`,
    )
    await database.change(sql`delete from schema_steps where no = ${migration.no}`)
    ran.push(migration.no)
  }
  return ran
}

/**
 * Runs the steps of a migration that have not been run. MariaDB commits with every statement that changes the schema, so each
 * is noted by itself; and each is whole or not at all. Only the first that is not noted can have been carried out by a process
 * that died before its note: then the server says that what it makes is there already.
 */
async function runSteps(database: Database, owner: Buffer, { no, statements }: Migration): Promise<void> {
  const [done] = await database.rows<{ steps: number }>(
    sql`select count(*) as steps from schema_steps where no = ${no}`,
  )
  const first = done?.steps ?? 0
  for (const [step, statement] of statements.entries()) {
    if (step < first) continue
    if (!(await takeLease(database, owner))) throw new Error('the schema lease was lost while migrating')
    try {
      await database.change(sql.raw(statement))
    } catch (error) {
      if (step !== first || !isThereAlready(error)) throw error
    }
    await database.change(sql`insert into schema_steps values (${no}, ${step}, utc_timestamp(3))`)
  }
}
