// How often, when and by which kind something may ring, and whether at all.
import type { ChannelSetting, QuietWindow } from '@zbell/core/policy'
import { bigint, index, int, mysqlTable, primaryKey, uniqueIndex } from 'drizzle-orm/mysql-core'
import {
  appNo,
  asciiText,
  blobColumn,
  environment,
  hashColumn,
  instantColumn,
  json,
  reference,
  text,
  whole,
} from '../columns.ts'
import { apps } from './apps.ts'

/** Kinds of notifications that people switch on and off. */
export const channels = mysqlTable(
  'channels',
  {
    no: int('no', { unsigned: true }).autoincrement().primaryKey(),
    appNo: appNo().references(() => apps.no),
    environment: environment(),
    name: asciiText('name', { length: 64 }).notNull(),
    setting: json('setting').$type<ChannelSetting>().notNull(),
    madeBy: text('made_by', { length: 220 }).notNull(),
    changedAt: instantColumn('changed_at').notNull(),
    deletedAt: instantColumn('deleted_at'),
  },
  (table) => [uniqueIndex('one_channel').on(table.appNo, table.environment, table.name)],
)

/** Channels that the system of a device blocks. */
export const channelBlocks = mysqlTable(
  'channel_blocks',
  {
    channelNo: whole('channel_no').notNull(),
    deviceNo: reference('device_no').notNull(),
  },
  (table) => [primaryKey({ columns: [table.channelNo, table.deviceNo] }), index('by_device').on(table.deviceNo)],
)

/** Channels that a person muted. */
export const channelMutes = mysqlTable(
  'channel_mutes',
  {
    channelNo: whole('channel_no').notNull(),
    userNo: reference('user_no').notNull(),
    mutedAt: instantColumn('muted_at').notNull(),
  },
  (table) => [primaryKey({ columns: [table.channelNo, table.userNo] }), index('by_user').on(table.userNo)],
)

/** Quiet hours of a person, in place of the app’s. */
export const userQuietHours = mysqlTable(
  'user_quiet_hours',
  {
    userNo: reference('user_no').primaryKey(),
    appNo: appNo(),
    environment: environment(),
    quietHours: json('quiet_hours').$type<readonly QuietWindow[]>().notNull(),
    changedAt: instantColumn('changed_at').notNull(),
  },
  (table) => [index('by_app').on(table.appNo, table.environment)],
)

/** How often people were rung within a cap’s span: packed counters of many people in one row. */
export const capPages = mysqlTable(
  'cap_pages',
  {
    appNo: appNo(),
    environment: environment(),
    cap: asciiText('cap', { length: 64 }).notNull(),
    page: bigint('page', { mode: 'number' }).notNull(),
    body: blobColumn('body').notNull(),
    untilAt: instantColumn('until_at').notNull(),
  },
  (table) => [
    primaryKey({ columns: [table.appNo, table.environment, table.cap, table.page] }),
    index('by_until').on(table.untilAt),
  ],
)

/** Apps that are stopped, by whom and why. */
export const appStops = mysqlTable(
  'app_stops',
  {
    appNo: appNo(),
    environment: environment(),
    reason: text('reason', { length: 200 }).notNull(),
    stoppedBy: text('stopped_by', { length: 220 }).notNull(),
    stoppedAt: instantColumn('stopped_at').notNull(),
  },
  (table) => [primaryKey({ columns: [table.appNo, table.environment] })],
)

/** The secret address of an app’s calendar, as a digest. */
export const calendarFeeds = mysqlTable(
  'calendar_feeds',
  {
    appNo: appNo(),
    environment: environment(),
    secretHash: hashColumn('secret_hash', { length: 32 }).notNull(),
    madeBy: text('made_by', { length: 220 }).notNull(),
    madeAt: instantColumn('made_at').notNull(),
  },
  (table) => [
    primaryKey({ columns: [table.appNo, table.environment] }),
    uniqueIndex('one_secret').on(table.secretHash),
  ],
)
