// What keeps the service going.
import { index, mysqlEnum, mysqlTable } from 'drizzle-orm/mysql-core'
import {
  asciiText,
  document,
  hashColumn,
  instantColumn,
  json,
  reference,
  rowNo,
  small,
  text,
  uuidColumn,
  whole,
} from '../columns.ts'

/** What requests with an Idempotency-Key were answered, for a day. */
export const requestKeys = mysqlTable(
  'request_keys',
  {
    /** Of the key, with whose it is and for what. */
    name: hashColumn('name', { length: 32 }).primaryKey(),
    request: hashColumn('request', { length: 32 }).notNull(),
    status: small('status'),
    answer: document('answer'),
    begunAt: instantColumn('begun_at').notNull(),
  },
  (table) => [index('by_age').on(table.begunAt)],
)

/** What was deleted and left rows behind, which go in pages. */
export const removals = mysqlTable('removals', {
  no: rowNo(),
  kind: mysqlEnum('kind', ['topic', 'trigger', 'schedule']).notNull(),
  subjectNo: reference('subject_no').notNull(),
})

/** Background jobs: when each is due, who runs it, and how its last run ended. */
export const jobs = mysqlTable('jobs', {
  name: asciiText('name', { length: 40 }).primaryKey(),
  everySeconds: whole('every_seconds').notNull(),
  dueAt: instantColumn('due_at').notNull(),
  /** Who runs it now. */
  owner: hashColumn('owner', { length: 16 }),
  untilAt: instantColumn('until_at').notNull(),
  runBy: text('run_by', { length: 100 }),
  startedAt: instantColumn('started_at'),
  finishedAt: instantColumn('finished_at'),
  durationMs: whole('duration_ms'),
  failures: whole('failures').notNull().default(0),
  error: text('error', { length: 300 }),
})

/** The processes that share this database, each with what it says of itself. */
export const processes = mysqlTable('processes', {
  id: uuidColumn('id').primaryKey(),
  startedAt: instantColumn('started_at').notNull(),
  seenAt: instantColumn('seen_at').notNull(),
  report: json('report').$type<object>().notNull(),
})
