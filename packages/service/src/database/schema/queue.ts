// What waits to be done, and what waits to be told.
import { boolean, index, mysqlEnum, mysqlTable } from 'drizzle-orm/mysql-core'
import {
  appNo,
  asciiText,
  blobColumn,
  code,
  environment,
  instantColumn,
  reference,
  rowNo,
  small,
  whole,
} from '../columns.ts'

/**
 * Due work. A device of a notification is always in exactly one place: in the packed `body` of one piece of work (it is queued),
 * or in a row of `deliveries` (something became of it); every change moves it in a transaction. Whose turn has come is three facts:
 * due (`due_at`), leased (`leased_until`), suspended or parked.
 */
export const work = mysqlTable(
  'work',
  {
    no: rowNo(),
    /** What is to be done; the queue itself does not read it. */
    kind: asciiText('kind', { length: 20 }).notNull(),
    appNo: appNo(),
    environment: environment(),
    /** What it is about, such as the number of a notification. */
    subjectNo: reference('subject_no').notNull(),
    /** Greater overtakes. */
    urgency: code('urgency').notNull(),
    dueAt: instantColumn('due_at').notNull(),
    /** Counts the claims: a write that carries an older number has lost its lease. */
    fence: reference('fence').notNull().default(0),
    leasedUntil: instantColumn('leased_until'),
    /** Its subject is paused. */
    suspended: boolean('suspended').notNull().default(false),
    /** Its app is stopped. */
    parked: boolean('parked').notNull().default(false),
    failures: small('failures').notNull().default(0),
    /** What it waits for since its last failure: a code of the caller’s. */
    cause: code('cause').notNull().default(0),
    /** How many parts it has. */
    size: whole('size').notNull().default(0),
    body: blobColumn('body'),
  },
  (table) => [
    // The most urgent that is due, at the beginning of its range: behind it may lie a million that wait for their time.
    index('by_turn').on(table.suspended, table.parked, table.urgency, table.dueAt, table.leasedUntil),
    // The next app, and the next subject of an app, without a look at the work of others.
    index('by_share').on(
      table.suspended,
      table.parked,
      table.urgency,
      table.appNo,
      table.subjectNo,
      table.dueAt,
      table.leasedUntil,
    ),
    index('by_subject').on(table.subjectNo, table.dueAt, table.leasedUntil, table.size),
  ],
)

export const outboxKinds = ['event', 'replay'] as const
export type OutboxKind = (typeof outboxKinds)[number]

/**
 * What happened, as it waits for the webhooks that want to know: a page of events for each, written in the transaction in which it
 * happened, and deleted once it was delivered or given up.
 */
export const outbox = mysqlTable(
  'outbox',
  {
    no: rowNo(),
    webhookNo: whole('webhook_no').notNull(),
    /** `replay`: delivered once more because somebody asked for it. */
    kind: mysqlEnum('kind', outboxKinds).notNull(),
    /** How many events it holds. */
    size: whole('size').notNull(),
    body: blobColumn('body').notNull(),
    failures: small('failures').notNull().default(0),
    dueAt: instantColumn('due_at').notNull(),
    /** Since when its events wait. */
    createdAt: instantColumn('created_at').notNull(),
    fence: reference('fence').notNull().default(0),
    leasedUntil: instantColumn('leased_until'),
  },
  (table) => [
    index('by_due').on(table.dueAt),
    index('by_webhook').on(table.webhookNo, table.dueAt, table.leasedUntil, table.size),
    index('by_age').on(table.createdAt),
  ],
)
