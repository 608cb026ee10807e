// What the app’s own server is told, and how it answered.
import { bigint, boolean, int, json, mysqlEnum, mysqlTable, smallint, text, varchar } from 'drizzle-orm/mysql-core'
import { appNo, blobColumn, bytesColumn, environment, instantColumn, rowNo } from '../columns.ts'

export const webhooks = mysqlTable('webhooks', {
  no: int('no', { unsigned: true }).autoincrement().primaryKey(),
  appNo: appNo(),
  environment: environment(),
  name: varchar('name', { length: 64 }).notNull(),
  kinds: json('kinds').notNull(),
  rule: varchar('rule', { length: 4000 }),
  batch: smallint('batch', { unsigned: true }).notNull().default(1),
  ca: text('ca'),
  sealed: bytesColumn('sealed', { length: 8000 }).notNull(),
  enabled: boolean('enabled').notNull().default(true),
  offBecause: varchar('off_because', { length: 300 }),
  fault: varchar('fault', { length: 300 }),
  faultSince: instantColumn('fault_since'),
  failures: int('failures', { unsigned: true }).notNull().default(0),
  restsUntil: instantColumn('rests_until'),
  toldAt: instantColumn('told_at'),
  dropped: bigint('dropped', { mode: 'number', unsigned: true }).notNull().default(0),
  droppedAt: instantColumn('dropped_at'),
  madeBy: varchar('made_by', { length: 220 }).notNull(),
  changedAt: instantColumn('changed_at').notNull(),
})

/** How a request ended: `again`: it will be made once more; `dropped`: there was no room for more that waits; `tried`: by hand. */
export const tellingOutcomes = ['told', 'again', 'given-up', 'unwanted', 'dropped', 'tried'] as const
export type TellingOutcome = (typeof tellingOutcomes)[number]

export const webhookLog = mysqlTable('webhook_log', {
  no: rowNo(),
  webhookNo: int('webhook_no', { unsigned: true }).notNull(),
  at: instantColumn('at').notNull(),
  message: varchar('message', { length: 64 }).notNull(),
  kind: varchar('kind', { length: 40 }),
  events: int('events', { unsigned: true }).notNull(),
  attempt: smallint('attempt', { unsigned: true }).notNull(),
  outcome: mysqlEnum('outcome', tellingOutcomes).notNull(),
  status: smallint('status', { unsigned: true }),
  durationMs: int('duration_ms', { unsigned: true }).notNull().default(0),
  says: varchar('says', { length: 300 }),
  answer: varchar('answer', { length: 2000 }),
  again: boolean('again').notNull().default(false),
  body: blobColumn('body'),
})
