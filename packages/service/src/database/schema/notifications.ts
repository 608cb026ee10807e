// Notifications, the work that they make, and what became of each delivery.
import { environments } from '@zbell/core'
import { sql } from 'drizzle-orm'
import {
  bigint,
  boolean,
  date,
  int,
  json,
  mysqlEnum,
  mysqlTable,
  primaryKey,
  smallint,
  tinyint,
  varchar,
} from 'drizzle-orm/mysql-core'
import { pools } from '../../queue/index.ts'
import { appNo, blobColumn, environment, hashColumn, instantColumn, rowNo, uuidColumn } from '../columns.ts'

export const notifications = mysqlTable('notifications', {
  no: rowNo(),
  id: uuidColumn('id').notNull(),
  appNo: appNo(),
  environment: environment(),
  state: mysqlEnum('state', ['expanding', 'sending', 'finished', 'scheduled']).notNull(),
  target: json('target').notNull(),
  content: json('content').notNull(),
  urgency: tinyint('urgency', { unsigned: true }).notNull(),
  mode: mysqlEnum('mode', ['show', 'wake']).notNull(),
  ttlSeconds: int('ttl_seconds', { unsigned: true }).notNull(),
  sentBy: varchar('sent_by', { length: 220 }).notNull(),
  idempotencyHash: hashColumn('idempotency_hash', { length: 32 }),
  requestHash: hashColumn('request_hash', { length: 32 }).notNull(),
  expanded: int('expanded', { unsigned: true }).notNull().default(0),
  expandedTo: bigint('expanded_to', { mode: 'number', unsigned: true }).notNull().default(0),
  createdAt: instantColumn('created_at').notNull(),
  expiresAt: instantColumn('expires_at').notNull(),
  finishedAt: instantColumn('finished_at'),
  changedAt: instantColumn('changed_at').notNull(),
  version: int('version', { unsigned: true }).notNull().default(0),
  filling: json('filling'),
  template: varchar('template', { length: 80 }),
  name: varchar('name', { length: 64 }),
  liveName: varchar('live_name', { length: 64 }),
  tag: varchar('tag', { length: 32 }),
  hold: tinyint('hold', { unsigned: true }).notNull().default(0),
  spreadSeconds: int('spread_seconds', { unsigned: true }).notNull().default(0),
  spreadOver: int('spread_over', { unsigned: true }).notNull().default(0),
  withdrawnAt: instantColumn('withdrawn_at'),
  prunedAt: instantColumn('pruned_at'),
  dueAt: instantColumn('due_at'),
  graceSeconds: int('grace_seconds', { unsigned: true }),
  missedAt: instantColumn('missed_at'),
  readerLocal: varchar('reader_local', { length: 19 }),
  readerPast: mysqlEnum('reader_past', ['skip', 'now', 'tomorrow']),
  schedule: varchar('schedule', { length: 64 }),
  channelNo: int('channel_no', { unsigned: true }),
  capped: boolean('capped').notNull().default(false),
})

export const schedules = mysqlTable('schedules', {
  no: int('no', { unsigned: true }).autoincrement().primaryKey(),
  appNo: appNo(),
  environment: environment(),
  name: varchar('name', { length: 64 }).notNull(),
  timing: json('timing').notNull(),
  notification: json('notification').notNull(),
  graceSeconds: int('grace_seconds', { unsigned: true }).notNull(),
  paused: boolean('paused').notNull(),
  nextAt: instantColumn('next_at'),
  nextId: uuidColumn('next_id').notNull(),
  version: int('version', { unsigned: true }).notNull().default(1),
  madeBy: varchar('made_by', { length: 220 }).notNull(),
  changedAt: instantColumn('changed_at').notNull(),
  emptyRuns: int('empty_runs', { unsigned: true }).notNull().default(0),
})

export const scheduleRuns = mysqlTable('schedule_runs', {
  no: rowNo(),
  scheduleNo: int('schedule_no', { unsigned: true }).notNull(),
  dueAt: instantColumn('due_at').notNull(),
  state: mysqlEnum('state', ['rung', 'missed', 'skipped', 'failed']).notNull(),
  says: varchar('says', { length: 300 }),
  notificationId: uuidColumn('notification_id'),
  settledAt: instantColumn('settled_at').notNull(),
})

export const notificationCounts = mysqlTable(
  'notification_counts',
  {
    notificationNo: bigint('notification_no', { mode: 'number', unsigned: true }).notNull(),
    platform: tinyint('platform', { unsigned: true }).notNull(),
    state: tinyint('state', { unsigned: true }).notNull(),
    reason: tinyint('reason', { unsigned: true }).notNull(),
    count: int('count').notNull(),
  },
  (table) => [primaryKey({ columns: [table.notificationNo, table.platform, table.state, table.reason] })],
)

export const dayCounts = mysqlTable(
  'day_counts',
  {
    appNo: appNo(),
    environment: environment(),
    day: date('day', { mode: 'string' }).notNull(),
    slot: tinyint('slot', { unsigned: true }).notNull(),
    platform: tinyint('platform', { unsigned: true }).notNull(),
    state: tinyint('state', { unsigned: true }).notNull(),
    reason: tinyint('reason', { unsigned: true }).notNull(),
    duration: tinyint('duration', { unsigned: true }).notNull(),
    count: bigint('count', { mode: 'number', unsigned: true }).notNull(),
    channelNo: int('channel_no', { unsigned: true }).notNull().default(0),
  },
  (table) => [
    primaryKey({
      columns: [
        table.appNo,
        table.environment,
        table.day,
        table.slot,
        table.channelNo,
        table.platform,
        table.state,
        table.reason,
        table.duration,
      ],
    }),
  ],
)

export const deliveries = mysqlTable(
  'deliveries',
  {
    notificationNo: bigint('notification_no', { mode: 'number', unsigned: true }).notNull(),
    deviceNo: bigint('device_no', { mode: 'number', unsigned: true }).notNull(),
    platform: tinyint('platform', { unsigned: true }).notNull(),
    state: tinyint('state', { unsigned: true }).notNull(),
    reason: tinyint('reason', { unsigned: true }).notNull().default(0),
    attempts: smallint('attempts', { unsigned: true }).notNull().default(0),
    gatewayReference: varchar('gateway_reference', { length: 64 }),
    answer: hashColumn('answer', { length: 6 }),
    action: varchar('action', { length: 64 }),
    acceptedAt: instantColumn('accepted_at'),
    receivedAt: instantColumn('received_at'),
    shownAt: instantColumn('shown_at'),
    dismissedAt: instantColumn('dismissed_at'),
    openedAt: instantColumn('opened_at'),
    endedAt: instantColumn('ended_at'),
    appState: tinyint('app_state', { unsigned: true }),
    became: tinyint('became', { unsigned: true }),
    detail: varchar('detail', { length: 64 }),
  },
  (table) => [primaryKey({ columns: [table.notificationNo, table.deviceNo] })],
)

export const earlyReceipts = mysqlTable(
  'early_receipts',
  {
    notificationNo: bigint('notification_no', { mode: 'number', unsigned: true }).notNull(),
    deviceNo: bigint('device_no', { mode: 'number', unsigned: true }).notNull(),
    state: tinyint('state', { unsigned: true }).notNull(),
    action: varchar('action', { length: 64 }),
    at: instantColumn('at').notNull(),
    appState: tinyint('app_state', { unsigned: true }),
    became: tinyint('became', { unsigned: true }),
  },
  (table) => [primaryKey({ columns: [table.notificationNo, table.deviceNo, table.state] })],
)

export const gatewayAnswers = mysqlTable(
  'gateway_answers',
  {
    notificationNo: bigint('notification_no', { mode: 'number', unsigned: true }).notNull(),
    hash: hashColumn('hash', { length: 6 }).notNull(),
    gateway: varchar('gateway', { length: 250 }).notNull(),
    credential: varchar('credential', { length: 60 }),
    status: smallint('status', { unsigned: true }).notNull(),
    says: varchar('says', { length: 250 }).notNull(),
  },
  (table) => [primaryKey({ columns: [table.notificationNo, table.hash] })],
)

export const work = mysqlTable('work', {
  no: rowNo(),
  kind: varchar('kind', { length: 20 }).notNull(),
  subjectNo: bigint('subject_no', { mode: 'number', unsigned: true }).notNull(),
  urgency: tinyint('urgency', { unsigned: true }).notNull(),
  dueAt: instantColumn('due_at').notNull(),
  fence: bigint('fence', { mode: 'number', unsigned: true }).notNull().default(0),
  failures: smallint('failures', { unsigned: true }).notNull().default(0),
  cause: tinyint('cause', { unsigned: true }).notNull().default(0),
  size: int('size', { unsigned: true }).notNull().default(0),
  body: blobColumn('body'),
  appNo: int('app_no', { unsigned: true }).notNull().default(0),
  environment: mysqlEnum('environment', environments).notNull().default('development'),
  leasedUntil: instantColumn('leased_until'),
  suspended: boolean('suspended').notNull().default(false),
  stopped: boolean('stopped').notNull().default(false),
  pool: mysqlEnum('pool', pools).notNull().default('sending'),
  madeAt: instantColumn('made_at').notNull().default(sql`(utc_timestamp(3))`),
})
