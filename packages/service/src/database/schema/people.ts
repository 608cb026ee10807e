// People, what is known of them, and the topics that they and their devices follow.
import { sql } from 'drizzle-orm'
import {
  bigint,
  boolean,
  double,
  index,
  int,
  mysqlEnum,
  mysqlTable,
  primaryKey,
  uniqueIndex,
} from 'drizzle-orm/mysql-core'
import {
  appNo,
  asciiText,
  environment,
  hashColumn,
  instantColumn,
  json,
  reference,
  rowNo,
  text,
  unpaddedText,
  whole,
} from '../columns.ts'
import { apps } from './apps.ts'

/** People. One without a name is the anonymous owner of a device. */
export const users = mysqlTable(
  'users',
  {
    no: rowNo(),
    appNo: appNo(),
    environment: environment(),
    name: text('name', { length: 128 }),
    createdAt: instantColumn('created_at').notNull().default(sql`utc_timestamp(3)`),
    changedAt: instantColumn('changed_at').notNull().default(sql`utc_timestamp(3)`),
    named: boolean('named').generatedAlwaysAs(sql`(name is not null)`),
  },
  (table) => [
    index('by_age').on(table.appNo, table.environment, table.named, table.no),
    index('by_change').on(table.appNo, table.environment, table.named, table.changedAt, table.no),
    uniqueIndex('one_name').on(table.appNo, table.environment, table.name),
  ],
)

/** Declared attributes of an app’s people, and whether devices may set them. */
export const attributes = mysqlTable(
  'attributes',
  {
    no: int('no', { unsigned: true }).autoincrement().primaryKey(),
    appNo: appNo().references(() => apps.no),
    environment: environment(),
    name: asciiText('name', { length: 64 }).notNull(),
    type: mysqlEnum('type', ['text', 'number', 'boolean', 'instant', 'place']).notNull(),
    devicesMay: boolean('devices_may').notNull().default(false),
    createdAt: instantColumn('created_at').notNull(),
  },
  (table) => [uniqueIndex('one_name').on(table.appNo, table.environment, table.name)],
)

/** Attributes of people. Numbers, instants (in ms) and truth values are in `number`; a place is in both numbers. */
export const userAttributes = mysqlTable(
  'user_attributes',
  {
    userNo: reference('user_no').notNull(),
    attributeNo: whole('attribute_no').notNull(),
    text: unpaddedText('text', { length: 500 }),
    number: double('number'),
    second: double('second'),
    changedAt: instantColumn('changed_at').notNull(),
  },
  (table) => [
    primaryKey({ columns: [table.userNo, table.attributeNo] }),
    index('by_number').on(table.attributeNo, table.number),
    index('by_text').on(table.attributeNo, sql`\`text\`(40)`),
  ],
)

/** What happened (CloudEvents 1.0), perhaps about somebody. `identity` is a digest of who reported it, its source and its id. */
export const occurrences = mysqlTable(
  'occurrences',
  {
    no: rowNo(),
    appNo: appNo(),
    environment: environment(),
    identity: hashColumn('identity', { length: 32 }).notNull(),
    source: text('source', { length: 500 }).notNull(),
    id: text('id', { length: 200 }).notNull(),
    type: unpaddedText('type', { length: 200 }).notNull(),
    userNo: reference('user_no'),
    at: instantColumn('at').notNull(),
    takenAt: instantColumn('taken_at').notNull(),
    data: json('data'),
    reporter: mysqlEnum('reporter', ['server', 'source', 'device']).notNull().default('server'),
    proved: boolean('proved').notNull().default(false),
  },
  (table) => [
    index('by_age').on(table.takenAt),
    index('by_type').on(table.userNo, table.type, table.at),
    index('by_user').on(table.userNo, table.at),
    uniqueIndex('once').on(table.appNo, table.environment, table.identity),
  ],
)

/** Named lists. Their members are counted by a background job. */
export const topics = mysqlTable(
  'topics',
  {
    no: int('no', { unsigned: true }).autoincrement().primaryKey(),
    appNo: appNo().references(() => apps.no),
    environment: environment(),
    name: asciiText('name', { length: 64 }).notNull(),
    title: text('title', { length: 80 }),
    declared: boolean('declared').notNull(),
    createdAt: instantColumn('created_at').notNull(),
    countedDevices: bigint('counted_devices', { mode: 'number' }),
    countedUsers: bigint('counted_users', { mode: 'number' }),
  },
  (table) => [uniqueIndex('one_name').on(table.appNo, table.environment, table.name)],
)

/** Devices that joined a topic by themselves. */
export const topicDevices = mysqlTable(
  'topic_devices',
  {
    topicNo: whole('topic_no').notNull(),
    deviceNo: reference('device_no').notNull(),
    joinedAt: instantColumn('joined_at').notNull(),
  },
  (table) => [primaryKey({ columns: [table.topicNo, table.deviceNo] }), index('by_device').on(table.deviceNo)],
)

/** People who joined a topic. */
export const topicUsers = mysqlTable(
  'topic_users',
  {
    topicNo: whole('topic_no').notNull(),
    userNo: reference('user_no').notNull(),
    joinedAt: instantColumn('joined_at').notNull(),
  },
  (table) => [primaryKey({ columns: [table.topicNo, table.userNo] }), index('by_user').on(table.userNo)],
)
