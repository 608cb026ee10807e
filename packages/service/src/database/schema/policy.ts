// How often, when and by which kind something may ring, and whether at all.
import type { ChannelSetting, QuietWindow } from '@zbell/core/restraint'
import { bigint, int, json, mysqlTable, primaryKey, varchar } from 'drizzle-orm/mysql-core'
import { appNo, blobColumn, environment, hashColumn, instantColumn } from '../columns.ts'

export const channels = mysqlTable('channels', {
  no: int('no', { unsigned: true }).autoincrement().primaryKey(),
  appNo: appNo(),
  environment: environment(),
  name: varchar('name', { length: 64 }).notNull(),
  setting: json('setting').$type<ChannelSetting>().notNull(),
  madeBy: varchar('made_by', { length: 220 }).notNull(),
  changedAt: instantColumn('changed_at').notNull(),
  deletedAt: instantColumn('deleted_at'),
})

export const channelBlocks = mysqlTable(
  'channel_blocks',
  {
    channelNo: int('channel_no', { unsigned: true }).notNull(),
    deviceNo: bigint('device_no', { mode: 'number', unsigned: true }).notNull(),
  },
  (table) => [primaryKey({ columns: [table.channelNo, table.deviceNo] })],
)

export const channelMutes = mysqlTable(
  'channel_mutes',
  {
    channelNo: int('channel_no', { unsigned: true }).notNull(),
    userNo: bigint('user_no', { mode: 'number', unsigned: true }).notNull(),
    mutedAt: instantColumn('muted_at').notNull(),
  },
  (table) => [primaryKey({ columns: [table.channelNo, table.userNo] })],
)

export const userQuietHours = mysqlTable('user_quiet_hours', {
  userNo: bigint('user_no', { mode: 'number', unsigned: true }).primaryKey(),
  appNo: appNo(),
  environment: environment(),
  quietHours: json('quiet_hours').$type<readonly QuietWindow[]>().notNull(),
  changedAt: instantColumn('changed_at').notNull(),
})

export const capPages = mysqlTable(
  'cap_pages',
  {
    appNo: appNo(),
    environment: environment(),
    cap: varchar('cap', { length: 64 }).notNull(),
    page: bigint('page', { mode: 'number' }).notNull(),
    body: blobColumn('body').notNull(),
    untilAt: instantColumn('until_at').notNull(),
  },
  (table) => [primaryKey({ columns: [table.appNo, table.environment, table.cap, table.page] })],
)

export const appStops = mysqlTable(
  'app_stops',
  {
    appNo: appNo(),
    environment: environment(),
    reason: varchar('reason', { length: 200 }).notNull(),
    stoppedBy: varchar('stopped_by', { length: 220 }).notNull(),
    stoppedAt: instantColumn('stopped_at').notNull(),
  },
  (table) => [primaryKey({ columns: [table.appNo, table.environment] })],
)

export const calendarFeeds = mysqlTable(
  'calendar_feeds',
  {
    appNo: appNo(),
    environment: environment(),
    secretHash: hashColumn('secret_hash', { length: 32 }).notNull(),
    madeBy: varchar('made_by', { length: 220 }).notNull(),
    madeAt: instantColumn('made_at').notNull(),
  },
  (table) => [primaryKey({ columns: [table.appNo, table.environment] })],
)
