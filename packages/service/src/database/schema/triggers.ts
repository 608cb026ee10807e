// What rings without a person, and what came of each time.
import type { SourceDefinition, TriggerDefinition } from '@zbell/core/triggers'
import { boolean, datetime, index, int, mysqlEnum, mysqlTable, primaryKey, uniqueIndex } from 'drizzle-orm/mysql-core'
import {
  appNo,
  asciiText,
  blobColumn,
  bytesColumn,
  code,
  environment,
  hashColumn,
  instantColumn,
  json,
  reference,
  rowNo,
  small,
  text,
  uuidColumn,
  whole,
} from '../columns.ts'
import { apps } from './apps.ts'

/** What rings without a person. `hour_count` and `busiest` tell a trigger that fires far more often than it ever did. */
export const triggers = mysqlTable(
  'triggers',
  {
    no: int('no', { unsigned: true }).autoincrement().primaryKey(),
    appNo: appNo().references(() => apps.no),
    environment: environment(),
    name: asciiText('name', { length: 64 }).notNull(),
    version: whole('version').notNull().default(1),
    definition: json('definition').$type<TriggerDefinition>().notNull(),
    source: asciiText('source', { length: 64 }).notNull(),
    enabled: boolean('enabled').notNull(),
    pausedBecause: text('paused_because', { length: 300 }),
    hourAt: datetime('hour_at', { mode: 'date' }).notNull(),
    hourCount: whole('hour_count').notNull().default(0),
    busiest: whole('busiest').notNull().default(0),
    unmatched: reference('unmatched').notNull().default(0),
    hourUnmatched: whole('hour_unmatched').notNull().default(0),
    hourUnrung: whole('hour_unrung').notNull().default(0),
    madeBy: text('made_by', { length: 220 }).notNull(),
    changedAt: instantColumn('changed_at').notNull(),
  },
  (table) => [
    index('by_source').on(table.appNo, table.environment, table.source, table.enabled),
    uniqueIndex('one_trigger').on(table.appNo, table.environment, table.name),
  ],
)

/** Each version of a trigger, for the firings that were made by it. */
export const triggerVersions = mysqlTable(
  'trigger_versions',
  {
    triggerNo: whole('trigger_no').notNull(),
    version: whole('version').notNull(),
    definition: json('definition').$type<TriggerDefinition>().notNull(),
    madeBy: text('made_by', { length: 220 }).notNull(),
    madeAt: instantColumn('made_at').notNull(),
  },
  (table) => [primaryKey({ columns: [table.triggerNo, table.version] })],
)

/** Rows, occurrences and answers that wait for the triggers of their app; each is dispatched once. */
export const triggerEvents = mysqlTable(
  'trigger_events',
  {
    no: rowNo(),
    appNo: appNo(),
    environment: environment(),
    event: json('event').$type<Readonly<Record<string, unknown>>>().notNull(),
    sourceNo: whole('source_no').notNull().default(0),
    lateSeconds: whole('late_seconds').notNull().default(0),
  },
  (table) => [index('by_source').on(table.appNo, table.environment, table.sourceNo, table.no)],
)

/** What became of each event that fired a trigger. One that waits has its due time. */
export const firings = mysqlTable(
  'firings',
  {
    no: rowNo(),
    triggerNo: whole('trigger_no').notNull(),
    version: whole('version').notNull(),
    keyHash: hashColumn('key_hash', { length: 16 }).notNull(),
    keyText: text('key_text', { length: 200 }).notNull(),
    given: json('given').notNull(),
    state: mysqlEnum('state', [
      'rung',
      'waiting',
      'not-needed',
      'throttled',
      'nobody',
      'no-case',
      'fault',
      'dropped',
    ]).notNull(),
    says: text('says', { length: 300 }),
    caseNo: code('case_no'),
    /** What is to be sent when its time comes. */
    ring: json('ring'),
    notificationId: uuidColumn('notification_id'),
    firedAt: instantColumn('fired_at').notNull(),
    dueAt: instantColumn('due_at'),
  },
  (table) => [
    index('by_age').on(table.firedAt),
    index('by_due_of_trigger').on(table.state, table.triggerNo, table.dueAt),
    index('by_key').on(table.triggerNo, table.keyHash, table.firedAt),
    index('by_trigger').on(table.triggerNo, table.no),
  ],
)

/** What triggers read. `shape` is a digest of what makes the snapshot; when it changes, the snapshot is taken anew. */
export const sources = mysqlTable(
  'sources',
  {
    no: int('no', { unsigned: true }).autoincrement().primaryKey(),
    appNo: appNo().references(() => apps.no),
    environment: environment(),
    name: asciiText('name', { length: 64 }).notNull(),
    version: whole('version').notNull().default(1),
    kind: mysqlEnum('kind', ['table', 'poll', 'segment', 'incoming']).notNull(),
    definition: json('definition').$type<SourceDefinition>().notNull(),
    sealed: bytesColumn('sealed', { length: 16000 }).notNull(),
    address: hashColumn('address'),
    shape: hashColumn('shape').notNull(),
    /** Whether the first snapshot was taken: only what comes after it fires. */
    taken: boolean('taken').notNull().default(false),
    state: blobColumn('state'),
    columns: json('columns').$type<Readonly<Record<string, string>>>(),
    samples: json('samples').$type<readonly unknown[]>(),
    note: text('note', { length: 300 }),
    leftOut: text('left_out', { length: 300 }),
    fault: text('fault', { length: 300 }),
    faultSince: instantColumn('fault_since'),
    faults: whole('faults').notNull().default(0),
    polledAt: instantColumn('polled_at'),
    nextPollAt: instantColumn('next_poll_at'),
    /** Who polls it now. */
    lease: hashColumn('lease', { length: 16 }),
    leasedUntil: instantColumn('leased_until'),
    madeBy: text('made_by', { length: 220 }).notNull(),
    changedAt: instantColumn('changed_at').notNull(),
  },
  (table) => [
    index('by_poll').on(table.nextPollAt),
    uniqueIndex('one_address').on(table.address),
    uniqueIndex('one_source').on(table.appNo, table.environment, table.name),
  ],
)

/** The snapshot of a polled source, in packed pages: a page whose digest is the same is not looked into. */
export const sourcePages = mysqlTable(
  'source_pages',
  {
    sourceNo: whole('source_no').notNull(),
    page: small('page').notNull(),
    digest: hashColumn('digest', { length: 16 }).notNull(),
    packed: blobColumn('packed').notNull(),
  },
  (table) => [primaryKey({ columns: [table.sourceNo, table.page] })],
)
