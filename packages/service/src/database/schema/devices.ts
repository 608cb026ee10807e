// Devices, what became of them, and the tokens that they had before.
import { permissions, platforms } from '@zbell/core'
import { bigint, boolean, mysqlEnum, mysqlTable, primaryKey, tinyint, varchar } from 'drizzle-orm/mysql-core'
import { appNo, bytesColumn, environment, hashColumn, instantColumn, rowNo, uuidColumn } from '../columns.ts'

export const devices = mysqlTable('devices', {
  no: rowNo(),
  id: uuidColumn('id').notNull(),
  appNo: appNo(),
  environment: environment(),
  platform: mysqlEnum('platform', platforms).notNull(),
  token: varchar('token', { length: 4096 }).notNull(),
  tokenHash: hashColumn('token_hash', { length: 32 }),
  p256dh: bytesColumn('p256dh', { length: 65 }),
  auth: bytesColumn('auth', { length: 16 }),
  secretHash: hashColumn('secret_hash', { length: 32 }).notNull(),
  userNo: bigint('user_no', { mode: 'number', unsigned: true }),
  permission: mysqlEnum('permission', permissions).notNull(),
  muted: boolean('muted').notNull(),
  locale: varchar('locale', { length: 35 }),
  timeZone: varchar('time_zone', { length: 64 }),
  appVersion: varchar('app_version', { length: 64 }),
  systemVersion: varchar('system_version', { length: 64 }),
  model: varchar('model', { length: 64 }),
  registeredAt: instantColumn('registered_at').notNull(),
  seenAt: instantColumn('seen_at').notNull(),
  changedAt: instantColumn('changed_at').notNull(),
  retiredAt: instantColumn('retired_at'),
  retiredReason: varchar('retired_reason', { length: 40 }),
  installation: varchar('installation', { length: 64 }),
  allows: tinyint('allows', { unsigned: true }),
  receiptAt: instantColumn('receipt_at'),
  /** Whether it was proved that it is its user’s. */
  userProved: boolean('user_proved').notNull().default(false),
  /** When it registered last; null for one from a file that nobody has claimed. */
  claimedAt: instantColumn('claimed_at'),
})

export const deviceEvents = mysqlTable('device_events', {
  no: rowNo(),
  deviceNo: bigint('device_no', { mode: 'number', unsigned: true }).notNull(),
  at: instantColumn('at').notNull(),
  what: tinyint('what', { unsigned: true }).notNull(),
  detail: varchar('detail', { length: 200 }),
})

/** On which devices somebody was signed in who is not any more. */
export const formerDevices = mysqlTable(
  'former_devices',
  {
    userNo: bigint('user_no', { mode: 'number', unsigned: true }).notNull(),
    deviceNo: bigint('device_no', { mode: 'number', unsigned: true }).notNull(),
    leftAt: instantColumn('left_at').notNull(),
  },
  (table) => [primaryKey({ columns: [table.userNo, table.deviceNo] })],
)

export const deviceTokens = mysqlTable(
  'device_tokens',
  {
    deviceNo: bigint('device_no', { mode: 'number', unsigned: true }).notNull(),
    tokenHash: hashColumn('token_hash', { length: 32 }).notNull(),
    untilAt: instantColumn('until_at').notNull(),
  },
  (table) => [primaryKey({ columns: [table.deviceNo, table.tokenHash] })],
)
