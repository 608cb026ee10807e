// People, what is known of them, and the topics that they and their devices follow.
import { sql } from 'drizzle-orm'
import { bigint, boolean, double, int, json, mysqlEnum, mysqlTable, primaryKey, varchar } from 'drizzle-orm/mysql-core'
import { appNo, environment, hashColumn, instantColumn, rowNo } from '../columns.ts'

export const users = mysqlTable('users', {
  no: rowNo(),
  appNo: appNo(),
  environment: environment(),
  name: varchar('name', { length: 128 }),
  createdAt: instantColumn('created_at').notNull().default(sql`utc_timestamp(3)`),
  changedAt: instantColumn('changed_at').notNull().default(sql`utc_timestamp(3)`),
  named: boolean('named').generatedAlwaysAs(sql`(name is not null)`),
})

export const attributes = mysqlTable('attributes', {
  no: int('no', { unsigned: true }).autoincrement().primaryKey(),
  appNo: appNo(),
  environment: environment(),
  name: varchar('name', { length: 64 }).notNull(),
  type: mysqlEnum('type', ['text', 'number', 'boolean', 'instant', 'place']).notNull(),
  devicesMay: boolean('devices_may').notNull().default(false),
  createdAt: instantColumn('created_at').notNull(),
})

export const userAttributes = mysqlTable(
  'user_attributes',
  {
    userNo: bigint('user_no', { mode: 'number', unsigned: true }).notNull(),
    attributeNo: int('attribute_no', { unsigned: true }).notNull(),
    text: varchar('text', { length: 500 }),
    number: double('number'),
    second: double('second'),
    changedAt: instantColumn('changed_at').notNull(),
  },
  (table) => [primaryKey({ columns: [table.userNo, table.attributeNo] })],
)

export const occurrences = mysqlTable('occurrences', {
  no: rowNo(),
  appNo: appNo(),
  environment: environment(),
  identity: hashColumn('identity', { length: 32 }).notNull(),
  source: varchar('source', { length: 500 }).notNull(),
  id: varchar('id', { length: 200 }).notNull(),
  type: varchar('type', { length: 200 }).notNull(),
  userNo: bigint('user_no', { mode: 'number', unsigned: true }),
  at: instantColumn('at').notNull(),
  takenAt: instantColumn('taken_at').notNull(),
  data: json('data'),
  reporter: mysqlEnum('reporter', ['server', 'source', 'device']).notNull().default('server'),
  proved: boolean('proved').notNull().default(false),
})

export const topics = mysqlTable('topics', {
  no: int('no', { unsigned: true }).autoincrement().primaryKey(),
  appNo: appNo(),
  environment: environment(),
  name: varchar('name', { length: 64 }).notNull(),
  title: varchar('title', { length: 80 }),
  declared: boolean('declared').notNull(),
  createdAt: instantColumn('created_at').notNull(),
  countedDevices: bigint('counted_devices', { mode: 'number' }),
  countedUsers: bigint('counted_users', { mode: 'number' }),
})

export const topicDevices = mysqlTable(
  'topic_devices',
  {
    topicNo: int('topic_no', { unsigned: true }).notNull(),
    deviceNo: bigint('device_no', { mode: 'number', unsigned: true }).notNull(),
    joinedAt: instantColumn('joined_at').notNull(),
  },
  (table) => [primaryKey({ columns: [table.topicNo, table.deviceNo] })],
)

export const topicUsers = mysqlTable(
  'topic_users',
  {
    topicNo: int('topic_no', { unsigned: true }).notNull(),
    userNo: bigint('user_no', { mode: 'number', unsigned: true }).notNull(),
    joinedAt: instantColumn('joined_at').notNull(),
  },
  (table) => [primaryKey({ columns: [table.topicNo, table.userNo] })],
)
