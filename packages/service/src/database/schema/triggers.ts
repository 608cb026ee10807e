// What rings without a person, and what came of each time.
import {
  bigint,
  boolean,
  datetime,
  int,
  json,
  mysqlEnum,
  mysqlTable,
  primaryKey,
  smallint,
  tinyint,
  varchar,
} from 'drizzle-orm/mysql-core'
import {
  appNo,
  blobColumn,
  bytesColumn,
  environment,
  hashColumn,
  instantColumn,
  rowNo,
  uuidColumn,
} from '../columns.ts'

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
  unmatched: bigint('unmatched', { mode: 'number', unsigned: true }).notNull().default(0),
  hourUnmatched: int('hour_unmatched', { unsigned: true }).notNull().default(0),
  hourUnrung: int('hour_unrung', { unsigned: true }).notNull().default(0),
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
  sourceNo: int('source_no', { unsigned: true }).notNull().default(0),
  lateSeconds: int('late_seconds', { unsigned: true }).notNull().default(0),
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

export const sources = mysqlTable('sources', {
  no: int('no', { unsigned: true }).autoincrement().primaryKey(),
  appNo: appNo(),
  environment: environment(),
  name: varchar('name', { length: 64 }).notNull(),
  version: int('version', { unsigned: true }).notNull().default(1),
  kind: mysqlEnum('kind', ['table', 'poll', 'segment', 'incoming']).notNull(),
  definition: json('definition').notNull(),
  sealed: bytesColumn('sealed', { length: 16000 }).notNull(),
  address: hashColumn('address'),
  shape: hashColumn('shape').notNull(),
  taken: boolean('taken').notNull().default(false),
  state: blobColumn('state'),
  columns: json('columns'),
  samples: json('samples'),
  note: varchar('note', { length: 300 }),
  leftOut: varchar('left_out', { length: 300 }),
  fault: varchar('fault', { length: 300 }),
  faultSince: instantColumn('fault_since'),
  faults: int('faults', { unsigned: true }).notNull().default(0),
  lookedAt: instantColumn('looked_at'),
  nextLookAt: instantColumn('next_look_at'),
  lease: hashColumn('lease', { length: 16 }),
  leasedUntil: instantColumn('leased_until'),
  madeBy: varchar('made_by', { length: 220 }).notNull(),
  changedAt: instantColumn('changed_at').notNull(),
})

export const sourcePages = mysqlTable(
  'source_pages',
  {
    sourceNo: int('source_no', { unsigned: true }).notNull(),
    page: smallint('page', { unsigned: true }).notNull(),
    digest: hashColumn('digest', { length: 16 }).notNull(),
    packed: blobColumn('packed').notNull(),
  },
  (table) => [primaryKey({ columns: [table.sourceNo, table.page] })],
)
