// What the app’s own server is told, and how it answered.
import { boolean, index, int, mysqlEnum, mysqlTable, uniqueIndex } from 'drizzle-orm/mysql-core'
import {
  appNo,
  asciiDocument,
  asciiText,
  blobColumn,
  bytesColumn,
  environment,
  instantColumn,
  json,
  reference,
  rowNo,
  small,
  text,
  whole,
} from '../columns.ts'
import { apps } from './apps.ts'

/** Addresses to which an app’s events are delivered, and how they answered last. */
export const webhooks = mysqlTable(
  'webhooks',
  {
    no: int('no', { unsigned: true }).autoincrement().primaryKey(),
    appNo: appNo().references(() => apps.no),
    environment: environment(),
    name: asciiText('name', { length: 64 }).notNull(),
    kinds: json('kinds').$type<readonly string[]>().notNull(),
    rule: text('rule', { length: 4000 }),
    batch: small('batch').notNull().default(1),
    ca: asciiDocument('ca'),
    sealed: bytesColumn('sealed', { length: 8000 }).notNull(),
    enabled: boolean('enabled').notNull().default(true),
    offBecause: text('off_because', { length: 300 }),
    fault: text('fault', { length: 300 }),
    faultSince: instantColumn('fault_since'),
    failures: whole('failures').notNull().default(0),
    backoffUntil: instantColumn('backoff_until'),
    deliveredAt: instantColumn('delivered_at'),
    dropped: reference('dropped').notNull().default(0),
    droppedAt: instantColumn('dropped_at'),
    madeBy: text('made_by', { length: 220 }).notNull(),
    changedAt: instantColumn('changed_at').notNull(),
  },
  (table) => [uniqueIndex('by_name').on(table.appNo, table.environment, table.name)],
)

/** How a request ended: `again`: it will be made once more; `dropped`: there was no room for more that waits; `tried`: by hand. */
export const requestOutcomes = ['told', 'again', 'given-up', 'unwanted', 'dropped', 'tried'] as const
export type RequestOutcome = (typeof requestOutcomes)[number]

/** Requests to webhooks as they went out, so that they can be sent again. */
export const webhookLog = mysqlTable(
  'webhook_log',
  {
    no: rowNo(),
    webhookNo: whole('webhook_no').notNull(),
    at: instantColumn('at').notNull(),
    message: asciiText('message', { length: 64 }).notNull(),
    kind: asciiText('kind', { length: 40 }),
    events: whole('events').notNull(),
    attempt: small('attempt').notNull(),
    outcome: mysqlEnum('outcome', requestOutcomes).notNull(),
    status: small('status'),
    durationMs: whole('duration_ms').notNull().default(0),
    says: text('says', { length: 300 }),
    answer: text('answer', { length: 2000 }),
    again: boolean('again').notNull().default(false),
    body: blobColumn('body'),
  },
  (table) => [
    index('by_age').on(table.at),
    index('by_outcome').on(table.webhookNo, table.outcome, table.no),
    index('by_time').on(table.webhookNo, table.at),
    index('by_webhook').on(table.webhookNo, table.no),
  ],
)
