// What rings without a person, and what came of each time.
import {
  boolean,
  datetime,
  int,
  json,
  mysqlEnum,
  mysqlTable,
  primaryKey,
  tinyint,
  varchar,
} from 'drizzle-orm/mysql-core'
import { appNo, environment, hashColumn, instantColumn, rowNo, uuidColumn } from '../columns.ts'

export const triggers = mysqlTable('triggers', {
  no: int('no', { unsigned: true }).autoincrement().primaryKey(),
  appNo: appNo(),
  environment: environment(),
  name: varchar('name', { length: 64 }).notNull(),
  version: int('version', { unsigned: true }).notNull().default(1),
  definition: json('definition').notNull(),
  source: varchar('source', { length: 64 }).notNull(),
  enabled: boolean('enabled').notNull(),
  pausedBecause: varchar('paused_because', { length: 300 }),
  hourAt: datetime('hour_at', { mode: 'date' }).notNull(),
  hourCount: int('hour_count', { unsigned: true }).notNull().default(0),
  busiest: int('busiest', { unsigned: true }).notNull().default(0),
  madeBy: varchar('made_by', { length: 220 }).notNull(),
  changedAt: instantColumn('changed_at').notNull(),
})

export const triggerVersions = mysqlTable(
  'trigger_versions',
  {
    triggerNo: int('trigger_no', { unsigned: true }).notNull(),
    version: int('version', { unsigned: true }).notNull(),
    definition: json('definition').notNull(),
    madeBy: varchar('made_by', { length: 220 }).notNull(),
    madeAt: instantColumn('made_at').notNull(),
  },
  (table) => [primaryKey({ columns: [table.triggerNo, table.version] })],
)

export const triggerEvents = mysqlTable('trigger_events', {
  no: rowNo(),
  appNo: appNo(),
  environment: environment(),
  event: json('event').notNull(),
})

export const firings = mysqlTable('firings', {
  no: rowNo(),
  triggerNo: int('trigger_no', { unsigned: true }).notNull(),
  version: int('version', { unsigned: true }).notNull(),
  keyHash: hashColumn('key_hash', { length: 16 }).notNull(),
  keyText: varchar('key_text', { length: 200 }).notNull(),
  given: json('given').notNull(),
  state: mysqlEnum('state', ['rung', 'waiting', 'over', 'held', 'nobody', 'no-case', 'fault', 'dropped']).notNull(),
  says: varchar('says', { length: 300 }),
  caseNo: tinyint('case_no', { unsigned: true }),
  ring: json('ring'),
  notificationId: uuidColumn('notification_id'),
  firedAt: instantColumn('fired_at').notNull(),
  dueAt: instantColumn('due_at'),
})
