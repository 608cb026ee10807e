// What became of notifications on devices.
import { date, int, mysqlTable, primaryKey } from 'drizzle-orm/mysql-core'
import {
  appNo,
  asciiText,
  code,
  environment,
  hashColumn,
  instantColumn,
  reference,
  small,
  text,
  whole,
} from '../columns.ts'

/** Totals of a notification as numbers of their own: to count a million deliveries whenever somebody looks is too slow. */
export const notificationCounts = mysqlTable(
  'notification_counts',
  {
    notificationNo: reference('notification_no').notNull(),
    platform: code('platform').notNull(),
    state: code('state').notNull(),
    reason: code('reason').notNull(),
    /** Signed: a correction may arrive before what it corrects. */
    count: int('count').notNull(),
  },
  (table) => [primaryKey({ columns: [table.notificationNo, table.platform, table.state, table.reason] })],
)

/** Totals of an app by day. `slot` spreads the writers of one total over several rows. */
export const dayCounts = mysqlTable(
  'day_counts',
  {
    appNo: appNo(),
    environment: environment(),
    day: date('day', { mode: 'string' }).notNull(),
    slot: code('slot').notNull(),
    platform: code('platform').notNull(),
    state: code('state').notNull(),
    reason: code('reason').notNull(),
    duration: code('duration').notNull(),
    count: reference('count').notNull(),
    channelNo: whole('channel_no').notNull().default(0),
  },
  (table) => [
    primaryKey({
      name: 'day_counts_pk',
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

/** What became of a notification on a device. Until then the device is in the work of the notification. */
export const deliveries = mysqlTable(
  'deliveries',
  {
    notificationNo: reference('notification_no').notNull(),
    deviceNo: reference('device_no').notNull(),
    platform: code('platform').notNull(),
    state: code('state').notNull(),
    reason: code('reason').notNull().default(0),
    attempts: small('attempts').notNull().default(0),
    gatewayReference: asciiText('gateway_reference', { length: 64 }),
    /** The digest of what the gateway said. */
    answer: hashColumn('answer', { length: 6 }),
    action: text('action', { length: 64 }),
    acceptedAt: instantColumn('accepted_at'),
    receivedAt: instantColumn('received_at'),
    shownAt: instantColumn('shown_at'),
    dismissedAt: instantColumn('dismissed_at'),
    openedAt: instantColumn('opened_at'),
    endedAt: instantColumn('ended_at'),
    appState: code('app_state'),
    became: code('became'),
    /** What a reason needs to be explained, such as the name of a cap. */
    detail: asciiText('detail', { length: 64 }),
  },
  (table) => [primaryKey({ columns: [table.notificationNo, table.deviceNo] })],
)

/** Receipts that arrived before the outcome of their delivery was stored. */
export const earlyReceipts = mysqlTable(
  'early_receipts',
  {
    notificationNo: reference('notification_no').notNull(),
    deviceNo: reference('device_no').notNull(),
    state: code('state').notNull(),
    action: text('action', { length: 64 }),
    at: instantColumn('at').notNull(),
    appState: code('app_state'),
    became: code('became'),
  },
  (table) => [primaryKey({ columns: [table.notificationNo, table.deviceNo, table.state] })],
)

/** What gateways said, each text once for a notification. */
export const gatewayAnswers = mysqlTable(
  'gateway_answers',
  {
    notificationNo: reference('notification_no').notNull(),
    hash: hashColumn('hash', { length: 6 }).notNull(),
    gateway: asciiText('gateway', { length: 250 }).notNull(),
    credential: asciiText('credential', { length: 60 }),
    status: small('status').notNull(),
    says: text('says', { length: 250 }).notNull(),
  },
  (table) => [primaryKey({ columns: [table.notificationNo, table.hash] })],
)
