// Who may come in, and what keeps the service going.
import {
  bigint,
  int,
  json,
  mediumtext,
  mysqlEnum,
  mysqlTable,
  primaryKey,
  smallint,
  tinyint,
  varchar,
} from 'drizzle-orm/mysql-core'
import { hashColumn, instantColumn, rowNo, uuidColumn } from '../columns.ts'

export const accounts = mysqlTable('accounts', {
  no: rowNo(),
  email: varchar('email', { length: 200 }).notNull(),
  name: varchar('name', { length: 80 }).notNull(),
  role: mysqlEnum('role', ['viewer', 'sender', 'owner']).notNull(),
  passwordHash: varchar('password_hash', { length: 200 }).notNull(),
  createdAt: instantColumn('created_at').notNull(),
})

export const sessions = mysqlTable('sessions', {
  hash: hashColumn('hash', { length: 32 }).primaryKey(),
  accountNo: bigint('account_no', { mode: 'number', unsigned: true }).notNull(),
  expiresAt: instantColumn('expires_at').notNull(),
})

export const signInLinks = mysqlTable('sign_in_links', {
  hash: hashColumn('hash', { length: 32 }).primaryKey(),
  accountNo: bigint('account_no', { mode: 'number', unsigned: true }).notNull(),
  expiresAt: instantColumn('expires_at').notNull(),
})

/** Browsers in which an account signed in before. */
export const knownBrowsers = mysqlTable('known_browsers', {
  hash: hashColumn('hash', { length: 32 }).primaryKey(),
  accountNo: bigint('account_no', { mode: 'number', unsigned: true }).notNull(),
  expiresAt: instantColumn('expires_at').notNull(),
})

/** What requests with an Idempotency-Key were answered. */
export const requestKeys = mysqlTable('request_keys', {
  /** Of the key, with whose it is and for what. */
  name: hashColumn('name', { length: 32 }).primaryKey(),
  request: hashColumn('request', { length: 32 }).notNull(),
  status: smallint('status', { unsigned: true }),
  answer: mediumtext('answer'),
  begunAt: instantColumn('begun_at').notNull(),
})

export const removals = mysqlTable('removals', {
  no: rowNo(),
  kind: mysqlEnum('kind', ['topic', 'trigger', 'schedule']).notNull(),
  subjectNo: bigint('subject_no', { mode: 'number', unsigned: true }).notNull(),
})

export const leases = mysqlTable('leases', {
  name: varchar('name', { length: 64 }).primaryKey(),
  owner: hashColumn('owner', { length: 16 }).notNull(),
  untilAt: instantColumn('until_at').notNull(),
})

export const jobs = mysqlTable('jobs', {
  name: varchar('name', { length: 40 }).primaryKey(),
  everySeconds: int('every_seconds', { unsigned: true }).notNull(),
  dueAt: instantColumn('due_at').notNull(),
  owner: hashColumn('owner', { length: 16 }),
  untilAt: instantColumn('until_at').notNull(),
  runBy: varchar('run_by', { length: 100 }),
  startedAt: instantColumn('started_at'),
  finishedAt: instantColumn('finished_at'),
  durationMs: int('duration_ms', { unsigned: true }),
  failures: int('failures', { unsigned: true }).notNull().default(0),
  error: varchar('error', { length: 300 }),
})

export const processes = mysqlTable('processes', {
  id: uuidColumn('id').primaryKey(),
  startedAt: instantColumn('started_at').notNull(),
  seenAt: instantColumn('seen_at').notNull(),
  report: json('report').notNull(),
})

export const schemaLease = mysqlTable('schema_lease', {
  one: tinyint('one').primaryKey(),
  owner: hashColumn('owner', { length: 16 }).notNull(),
  untilAt: instantColumn('until_at').notNull(),
})

export const schemaMigrations = mysqlTable('schema_migrations', {
  no: int('no').primaryKey(),
  name: varchar('name', { length: 80 }).notNull(),
  doneAt: instantColumn('done_at').notNull(),
})

export const schemaSteps = mysqlTable(
  'schema_steps',
  {
    no: int('no').notNull(),
    step: int('step').notNull(),
    doneAt: instantColumn('done_at').notNull(),
  },
  (table) => [primaryKey({ columns: [table.no, table.step] })],
)
