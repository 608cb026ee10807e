// Notifications, the work that they make, and what became of each delivery.
import { boolean, index, mysqlEnum, mysqlTable, uniqueIndex } from 'drizzle-orm/mysql-core'
import {
  appNo,
  asciiText,
  code,
  environment,
  hashColumn,
  instantColumn,
  json,
  reference,
  rowNo,
  text,
  uuidColumn,
  whole,
} from '../columns.ts'

/** What is sent. `expanded_to` is the last device for which work was made: a crash continues there. */
export const notifications = mysqlTable(
  'notifications',
  {
    no: rowNo(),
    id: uuidColumn('id').notNull(),
    appNo: appNo(),
    environment: environment(),
    state: mysqlEnum('state', ['expanding', 'sending', 'finished', 'scheduled']).notNull(),
    target: json('target').notNull(),
    content: json('content').notNull(),
    urgency: code('urgency').notNull(),
    mode: mysqlEnum('mode', ['show', 'wake']).notNull(),
    ttlSeconds: whole('ttl_seconds').notNull(),
    sentBy: text('sent_by', { length: 220 }).notNull(),
    idempotencyHash: hashColumn('idempotency_hash', { length: 32 }),
    /** Of the request, to tell a repeat from another request with the same key. */
    requestHash: hashColumn('request_hash', { length: 32 }).notNull(),
    expanded: whole('expanded').notNull().default(0),
    expandedTo: reference('expanded_to').notNull().default(0),
    createdAt: instantColumn('created_at').notNull(),
    expiresAt: instantColumn('expires_at').notNull(),
    finishedAt: instantColumn('finished_at'),
    changedAt: instantColumn('changed_at').notNull(),
    /** Two changes can fall into one millisecond; whoever watches tells them apart by this. */
    version: whole('version').notNull().default(0),
    filling: json('filling'),
    template: asciiText('template', { length: 80 }),
    name: asciiText('name', { length: 64 }),
    /** The name while it is waiting or being sent: of these there is one. */
    liveName: asciiText('live_name', { length: 64 }),
    tag: asciiText('tag', { length: 32 }),
    /** A code of the engine’s (`engine/pause-codes.ts`). */
    pause: code('pause').notNull().default(0),
    spreadSeconds: whole('spread_seconds').notNull().default(0),
    /** Devices over which the spread is computed. */
    spreadOver: whole('spread_over').notNull().default(0),
    withdrawnAt: instantColumn('withdrawn_at'),
    prunedAt: instantColumn('pruned_at'),
    dueAt: instantColumn('due_at'),
    graceSeconds: whole('grace_seconds'),
    missedAt: instantColumn('missed_at'),
    /** A local time in each recipient’s zone, such as 2026-12-24T18:00:00. */
    readerLocal: asciiText('reader_local', { length: 19 }),
    readerPast: mysqlEnum('reader_past', ['skip', 'now', 'tomorrow']),
    schedule: asciiText('schedule', { length: 64 }),
    channelNo: whole('channel_no'),
    capped: boolean('capped').notNull().default(false),
  },
  (table) => [
    index('by_change').on(table.appNo, table.environment, table.changedAt),
    index('by_due').on(table.state, table.dueAt),
    index('by_end').on(table.prunedAt, table.finishedAt),
    index('by_name').on(table.appNo, table.environment, table.name, table.no),
    index('by_tag').on(table.appNo, table.environment, table.tag, table.no),
    uniqueIndex('id').on(table.id),
    uniqueIndex('one_answer').on(table.appNo, table.environment, table.idempotencyHash),
    uniqueIndex('one_live_name').on(table.appNo, table.environment, table.liveName),
  ],
)
