import { setTimeout as wait } from 'node:timers/promises'
import { sql } from 'drizzle-orm'
import type { Database } from './database.ts'
import { isThereAlready } from './errors.ts'
import { underLease } from './lease.ts'
import { type Migration, migrations } from './migrations/index.ts'

const patienceMs = 120_000

/** The database was made by a newer version of the service. */
export class SchemaTooNew extends Error {
  override readonly name = 'SchemaTooNew'
}

/** The database was made by a version from before the first release, whose data this one does not take over. */
export class SchemaTooOld extends Error {
  override readonly name = 'SchemaTooOld'
}

/**
 * Brings the schema up to date. Several processes may start at once: one holds the lease and migrates, the rest wait.
 * A lease row rather than GET_LOCK, which a Galera cluster does not have.
 * @returns the numbers of the migrations that ran
 * @throws {SchemaTooNew} when the database knows more than this code @throws {SchemaTooOld}
 */
export async function migrate(database: Database): Promise<number[]> {
  await refuseUnreleased(database)
  for (const statement of ownTables) await database.change(sql.raw(statement))
  const giveUpAt = Date.now() + patienceMs
  for (;;) {
    const ran = await underLease(database, 'migrations', (mayGoOn) => runMissing(database, mayGoOn))
    if (ran) return ran
    if (Date.now() > giveUpAt)
      throw new Error('another process has held the lease of the migrations for two minutes; is it stuck?')
    await wait(100)
  }
}

/** As `migration-tables.ts` says; they are there before any migration. */
const ownTables = [
  `create table if not exists leases (name varchar(64) character set ascii collate ascii_bin not null primary key,
    owner binary(16) not null, until_at datetime(3) not null)`,
  `create table if not exists migrations (no int not null primary key,
    name varchar(80) character set ascii collate ascii_bin not null, done_at datetime(3) not null)`,
  `create table if not exists migration_steps (no int not null, step int not null, done_at datetime(3) not null,
    primary key (no, step))`,
]

/** Versions before the first release noted their migrations elsewhere. */
async function refuseUnreleased(database: Database): Promise<void> {
  const [found] = await database.rows(
    sql`select 1 from information_schema.tables where table_schema = database() and table_name = 'schema_migrations' limit 1`,
  )
  if (found)
    throw new SchemaTooOld(
      'its data is of a version before the first release, which this one cannot take over; start with an empty data folder or database',
    )
}

async function runMissing(database: Database, mayGoOn: () => Promise<boolean>): Promise<number[]> {
  const done = new Set((await database.rows<{ no: number }>(sql`select no from migrations`)).map(({ no }) => no))
  const newest = Math.max(0, ...done)
  const known = migrations.at(-1)?.no ?? 0
  if (newest > known) {
    throw new SchemaTooNew(`the database has schema ${newest}, this version knows ${known}; start the newer version`)
  }
  const ran: number[] = []
  for (const migration of migrations) {
    if (done.has(migration.no)) continue
    await runSteps(database, mayGoOn, migration)
    const { no, name } = migration
    await database.change(sql`insert into migrations (no, name, done_at) values (${no}, ${name}, utc_timestamp(3))`)
    await database.change(sql`delete from migration_steps where no = ${no}`)
    ran.push(no)
  }
  return ran
}

/**
 * Runs the steps of a migration that have not been run. MariaDB commits with every statement that changes the schema, so each
 * is noted by itself; and each is whole or not at all. Only the first that is not noted can have been carried out by a process
 * that died before its note: then the server says that what it makes is there already.
 */
async function runSteps(
  database: Database,
  mayGoOn: () => Promise<boolean>,
  { no, statements }: Migration,
): Promise<void> {
  const [done] = await database.rows<{ steps: number }>(
    sql`select count(*) as steps from migration_steps where no = ${no}`,
  )
  const first = done?.steps ?? 0
  for (const [step, statement] of statements.entries()) {
    if (step < first) continue
    if (!(await mayGoOn())) throw new Error('the lease of the migrations was lost while migrating')
    try {
      await database.change(sql.raw(statement))
    } catch (error) {
      if (step !== first || !isThereAlready(error)) throw error
    }
    await database.change(
      sql`insert into migration_steps (no, step, done_at) values (${no}, ${step}, utc_timestamp(3))`,
    )
  }
}
