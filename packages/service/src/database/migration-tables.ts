// What has to be there before the first migration; the runner makes these itself.
import { int, mysqlTable, primaryKey } from 'drizzle-orm/mysql-core'
import { asciiText, hashColumn, instantColumn } from './columns.ts'

/** What one process does at a time, by name. */
export const leases = mysqlTable('leases', {
  name: asciiText('name', { length: 64 }).primaryKey(),
  owner: hashColumn('owner', { length: 16 }).notNull(),
  untilAt: instantColumn('until_at').notNull(),
})

/** Migrations that were carried out. */
export const migrationsDone = mysqlTable('migrations', {
  no: int('no').primaryKey(),
  name: asciiText('name', { length: 80 }).notNull(),
  doneAt: instantColumn('done_at').notNull(),
})

/** Statements of the migration that is under way. */
export const migrationSteps = mysqlTable(
  'migration_steps',
  {
    no: int('no').notNull(),
    step: int('step').notNull(),
    doneAt: instantColumn('done_at').notNull(),
  },
  (table) => [primaryKey({ columns: [table.no, table.step] })],
)
