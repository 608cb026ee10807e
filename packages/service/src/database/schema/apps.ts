// What an app is and holds.
import type { Credential } from '@zbell/contract'
import { type CheckVerdict, type Declarations, platforms, type Writing } from '@zbell/core'
import { boolean, index, int, mysqlEnum, mysqlTable, primaryKey, uniqueIndex } from 'drizzle-orm/mysql-core'
import {
  appNo,
  asciiText,
  bytesColumn,
  code,
  environment,
  hashColumn,
  instantColumn,
  json,
  rowNo,
  text,
  uuidColumn,
  whole,
} from '../columns.ts'

/** An app: all that follows belongs to one. */
export const apps = mysqlTable(
  'apps',
  {
    no: int('no', { unsigned: true }).autoincrement().primaryKey(),
    slug: text('slug', { length: 40 }).notNull(),
    name: text('name', { length: 80 }).notNull(),
    identifiers: json('identifiers').$type<Partial<Record<(typeof platforms)[number], string>>>().notNull(),
    createdAt: instantColumn('created_at').notNull(),
  },
  (table) => [uniqueIndex('slug').on(table.slug)],
)

/** Keys of an app: of its server (`backend`), and of what is installed (`app`). Only their digests are kept. */
export const keys = mysqlTable(
  'api_keys',
  {
    no: rowNo(),
    appNo: appNo().references(() => apps.no),
    environment: environment(),
    kind: mysqlEnum('kind', ['backend', 'app']).notNull(),
    name: text('name', { length: 80 }).notNull(),
    hash: hashColumn('hash', { length: 32 }).notNull(),
    createdAt: instantColumn('created_at').notNull(),
    revokedAt: instantColumn('revoked_at'),
    id: uuidColumn('id').notNull(),
    role: mysqlEnum('role', ['viewer', 'sender', 'owner']),
    madeBy: text('made_by', { length: 220 }).notNull().default('operator'),
    usedAt: instantColumn('used_at'),
    revokedBy: text('revoked_by', { length: 220 }),
  },
  (table) => [index('by_app').on(table.appNo), uniqueIndex('by_id').on(table.id), uniqueIndex('hash').on(table.hash)],
)

/** What an app decides for an environment; what is not there has its default. */
export const appSettings = mysqlTable(
  'app_settings',
  {
    appNo: appNo().references(() => apps.no),
    environment: environment(),
    settings: json('settings').notNull(),
    proofKey: bytesColumn('proof_key', { length: 1000 }),
  },
  (table) => [primaryKey({ columns: [table.appNo, table.environment] })],
)

/** What an app’s gateways ask for, sealed. One of a platform is in use, one may wait; the others were requested or have retired. */
export const credentials = mysqlTable(
  'credentials',
  {
    no: rowNo(),
    appNo: appNo().references(() => apps.no),
    environment: environment(),
    platform: mysqlEnum('platform', platforms).notNull(),
    kind: text('kind', { length: 20 }).$type<Credential['kind']>().notNull(),
    fingerprint: text('fingerprint', { length: 64 }),
    sealed: bytesColumn('sealed', { length: 16000 }).notNull(),
    createdAt: instantColumn('created_at').notNull(),
    id: uuidColumn('id').notNull(),
    /** Null for one that was requested or has retired. */
    slot: mysqlEnum('slot', ['in-use', 'waiting']),
    publicKeyHash: asciiText('public_key_hash', { length: 64 }),
    subject: text('subject', { length: 1000 }),
    serial: asciiText('serial', { length: 100 }),
    keyId: text('key_id', { length: 100 }),
    issuer: text('issuer', { length: 200 }),
    notBefore: instantColumn('not_before'),
    notAfter: instantColumn('not_after'),
    addedBy: text('added_by', { length: 220 }).notNull().default('operator'),
    retiredAt: instantColumn('retired_at'),
    retiredBy: text('retired_by', { length: 220 }),
    usedAt: instantColumn('used_at'),
    rejectedAt: instantColumn('rejected_at'),
    checkedAt: instantColumn('checked_at'),
    verdict: json('verdict').$type<CheckVerdict>(),
    roundTripMs: whole('round_trip_ms'),
    /** The last announcement of its end: so many days ahead. */
    announcedDays: code('announced_days'),
    facts: json('facts').$type<Record<string, string>>(),
    origins: json('origins').$type<readonly string[]>(),
  },
  (table) => [
    uniqueIndex('by_id').on(table.id),
    uniqueIndex('one_in_a_slot').on(table.appNo, table.environment, table.platform, table.slot),
  ],
)

/** Each version of a text with values; the newest counts, unless it was deleted. */
export const templates = mysqlTable(
  'templates',
  {
    no: rowNo(),
    appNo: appNo().references(() => apps.no),
    environment: environment(),
    name: asciiText('name', { length: 64 }).notNull(),
    version: whole('version').notNull(),
    content: json('content').$type<Writing>().notNull(),
    declares: json('declares').$type<Declarations>().notNull(),
    madeBy: text('made_by', { length: 220 }).notNull(),
    madeAt: instantColumn('made_at').notNull(),
    deletedAt: instantColumn('deleted_at'),
  },
  (table) => [uniqueIndex('one_version').on(table.appNo, table.environment, table.name, table.version)],
)

/** Each version of a named rule; the newest counts, unless it was deleted. */
export const segments = mysqlTable(
  'segments',
  {
    no: int('no', { unsigned: true }).autoincrement().primaryKey(),
    appNo: appNo().references(() => apps.no),
    environment: environment(),
    name: asciiText('name', { length: 64 }).notNull(),
    version: whole('version').notNull(),
    rule: text('rule', { length: 4000 }).notNull(),
    note: text('note', { length: 200 }),
    madeBy: text('made_by', { length: 220 }).notNull(),
    madeAt: instantColumn('made_at').notNull(),
    deletedAt: instantColumn('deleted_at'),
  },
  (table) => [uniqueIndex('one_version').on(table.appNo, table.environment, table.name, table.version)],
)

/** When something was accepted and received for the first time, for the page that leads through the set-up. */
export const milestones = mysqlTable(
  'milestones',
  {
    appNo: appNo(),
    environment: environment(),
    platform: mysqlEnum('platform', platforms).notNull(),
    rehearsal: boolean('rehearsal').notNull(),
    what: mysqlEnum('what', ['accepted', 'received']).notNull(),
    at: instantColumn('at').notNull(),
  },
  (table) => [primaryKey({ columns: [table.appNo, table.environment, table.platform, table.rehearsal, table.what] })],
)

/** Proofs of who somebody is that were shown, until they expire: each counts for the first who shows it. */
export const usedProofs = mysqlTable('used_proofs', {
  hash: hashColumn('hash', { length: 32 }).notNull().primaryKey(),
  holder: hashColumn('holder', { length: 32 }).notNull(),
  untilAt: instantColumn('until_at').notNull(),
})
