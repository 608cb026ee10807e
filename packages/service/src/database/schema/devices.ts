// Devices, what became of them, and the tokens that they had before.
import { permissions, platforms, userRefusalCodes } from '@zbell/core'
import { boolean, date, index, mysqlEnum, mysqlTable, primaryKey, uniqueIndex } from 'drizzle-orm/mysql-core'
import {
  appNo,
  asciiText,
  bytesColumn,
  code,
  environment,
  hashColumn,
  instantColumn,
  reference,
  rowNo,
  text,
  uuidColumn,
  whole,
} from '../columns.ts'

/** Installations. A device has a token, or a push subscription of W3C Push; what it is called by and what it calls with are digests. */
export const devices = mysqlTable(
  'devices',
  {
    no: rowNo(),
    id: uuidColumn('id').notNull(),
    appNo: appNo(),
    environment: environment(),
    platform: mysqlEnum('platform', platforms).notNull(),
    token: asciiText('token', { length: 4096 }).notNull(),
    tokenHash: hashColumn('token_hash', { length: 32 }),
    p256dh: bytesColumn('p256dh', { length: 65 }),
    auth: bytesColumn('auth', { length: 16 }),
    secretHash: hashColumn('secret_hash', { length: 32 }).notNull(),
    userNo: reference('user_no'),
    permission: mysqlEnum('permission', permissions).notNull(),
    muted: boolean('muted').notNull(),
    locale: text('locale', { length: 35 }),
    timeZone: text('time_zone', { length: 64 }),
    appVersion: text('app_version', { length: 64 }),
    systemVersion: text('system_version', { length: 64 }),
    model: text('model', { length: 64 }),
    registeredAt: instantColumn('registered_at').notNull(),
    seenAt: instantColumn('seen_at').notNull(),
    changedAt: instantColumn('changed_at').notNull(),
    retiredAt: instantColumn('retired_at'),
    retiredReason: text('retired_reason', { length: 40 }),
    installation: asciiText('installation', { length: 64 }),
    allows: code('allows'),
    receiptAt: instantColumn('receipt_at'),
    /** Whether it was proved that it is its user’s. */
    userProved: boolean('user_proved').notNull().default(false),
    /** When it registered last; null for one from a file that nobody has claimed. */
    claimedAt: instantColumn('claimed_at'),
  },
  (table) => [
    index('by_change').on(table.appNo, table.environment, table.changedAt),
    index('by_platform').on(
      table.appNo,
      table.environment,
      table.platform,
      table.no,
      table.permission,
      table.muted,
      table.retiredAt,
      table.userNo,
    ),
    index('by_retirement').on(table.retiredAt),
    index('by_user').on(table.userNo, table.platform, table.permission, table.muted, table.retiredAt),
    uniqueIndex('id').on(table.id),
    uniqueIndex('one_installation').on(table.appNo, table.environment, table.installation),
    uniqueIndex('one_token').on(table.appNo, table.environment, table.platform, table.tokenHash),
    uniqueIndex('secret_hash').on(table.secretHash),
  ],
)

/** What happened to a device, newest last. */
export const deviceEvents = mysqlTable(
  'device_events',
  {
    no: rowNo(),
    deviceNo: reference('device_no').notNull(),
    at: instantColumn('at').notNull(),
    what: code('what').notNull(),
    detail: text('detail', { length: 200 }),
  },
  (table) => [index('by_device').on(table.deviceNo)],
)

/** On which devices somebody was signed in who is not any more. */
export const formerDevices = mysqlTable(
  'former_devices',
  {
    userNo: reference('user_no').notNull(),
    deviceNo: reference('device_no').notNull(),
    leftAt: instantColumn('left_at').notNull(),
  },
  (table) => [
    primaryKey({ columns: [table.userNo, table.deviceNo] }),
    index('by_age').on(table.leftAt),
    index('by_device').on(table.deviceNo),
  ],
)

/** How often a device named a user that it was refused, by day. */
export const userRefusalCounts = mysqlTable(
  'user_refusal_counts',
  {
    appNo: appNo(),
    environment: environment(),
    day: date('day', { mode: 'string' }).notNull(),
    code: mysqlEnum('code', userRefusalCodes).notNull(),
    count: whole('count').notNull(),
  },
  (table) => [primaryKey({ columns: [table.appNo, table.environment, table.day, table.code] })],
)

/** Tokens that a device gave up, so that a late answer of a gateway about one finds whose it was. */
export const deviceTokens = mysqlTable(
  'device_tokens',
  {
    deviceNo: reference('device_no').notNull(),
    tokenHash: hashColumn('token_hash', { length: 32 }).notNull(),
    untilAt: instantColumn('until_at').notNull(),
  },
  (table) => [primaryKey({ columns: [table.deviceNo, table.tokenHash] })],
)
