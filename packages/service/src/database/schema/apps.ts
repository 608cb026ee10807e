// What an app is and holds.
import type { Credential } from '@zbell/contract'
import { type CheckVerdict, platforms } from '@zbell/core'
import { boolean, char, int, json, mysqlEnum, mysqlTable, primaryKey, tinyint, varchar } from 'drizzle-orm/mysql-core'
import { appNo, bytesColumn, environment, hashColumn, instantColumn, rowNo, uuidColumn } from '../columns.ts'

export const apps = mysqlTable('apps', {
  no: int('no', { unsigned: true }).autoincrement().primaryKey(),
  slug: varchar('slug', { length: 40 }).notNull(),
  name: varchar('name', { length: 80 }).notNull(),
  identifiers: json('identifiers').$type<Partial<Record<(typeof platforms)[number], string>>>().notNull(),
  createdAt: instantColumn('created_at').notNull(),
})

export const keys = mysqlTable('api_keys', {
  no: rowNo(),
  appNo: appNo(),
  environment: environment(),
  kind: mysqlEnum('kind', ['backend', 'app']).notNull(),
  name: varchar('name', { length: 80 }).notNull(),
  hash: hashColumn('hash', { length: 32 }).notNull(),
  createdAt: instantColumn('created_at').notNull(),
  revokedAt: instantColumn('revoked_at'),
  id: uuidColumn('id').notNull(),
  role: mysqlEnum('role', ['viewer', 'sender', 'owner']),
  madeBy: varchar('made_by', { length: 220 }).notNull().default('operator'),
  usedAt: instantColumn('used_at'),
  revokedBy: varchar('revoked_by', { length: 220 }),
})

export const appSettings = mysqlTable(
  'app_settings',
  {
    appNo: appNo(),
    environment: environment(),
    settings: json('settings').notNull(),
    proofKey: bytesColumn('proof_key', { length: 1000 }),
  },
  (table) => [primaryKey({ columns: [table.appNo, table.environment] })],
)

export const credentials = mysqlTable('credentials', {
  no: rowNo(),
  appNo: appNo(),
  environment: environment(),
  platform: mysqlEnum('platform', platforms).notNull(),
  kind: varchar('kind', { length: 20 }).$type<Credential['kind']>().notNull(),
  fingerprint: varchar('fingerprint', { length: 64 }),
  sealed: bytesColumn('sealed', { length: 16000 }).notNull(),
  createdAt: instantColumn('created_at').notNull(),
  id: uuidColumn('id').notNull(),
  slot: mysqlEnum('slot', ['in-use', 'waiting']),
  publicKeyHash: char('public_key_hash', { length: 64 }),
  subject: varchar('subject', { length: 1000 }),
  serial: varchar('serial', { length: 100 }),
  keyId: varchar('key_id', { length: 100 }),
  issuer: varchar('issuer', { length: 200 }),
  notBefore: instantColumn('not_before'),
  notAfter: instantColumn('not_after'),
  addedBy: varchar('added_by', { length: 220 }).notNull().default('operator'),
  retiredAt: instantColumn('retired_at'),
  retiredBy: varchar('retired_by', { length: 220 }),
  usedAt: instantColumn('used_at'),
  rejectedAt: instantColumn('rejected_at'),
  checkedAt: instantColumn('checked_at'),
  verdict: json('verdict').$type<CheckVerdict>(),
  roundTripMs: int('round_trip_ms', { unsigned: true }),
  announcedDays: tinyint('announced_days', { unsigned: true }),
  facts: json('facts').$type<Record<string, string>>(),
  origins: json('origins').$type<readonly string[]>(),
})

export const templates = mysqlTable('templates', {
  no: rowNo(),
  appNo: appNo(),
  environment: environment(),
  name: varchar('name', { length: 64 }).notNull(),
  version: int('version', { unsigned: true }).notNull(),
  content: json('content').notNull(),
  declares: json('declares').notNull(),
  madeBy: varchar('made_by', { length: 220 }).notNull(),
  madeAt: instantColumn('made_at').notNull(),
  deletedAt: instantColumn('deleted_at'),
})

export const segments = mysqlTable('segments', {
  no: int('no', { unsigned: true }).autoincrement().primaryKey(),
  appNo: appNo(),
  environment: environment(),
  name: varchar('name', { length: 64 }).notNull(),
  version: int('version', { unsigned: true }).notNull(),
  rule: varchar('rule', { length: 4000 }).notNull(),
  note: varchar('note', { length: 200 }),
  madeBy: varchar('made_by', { length: 220 }).notNull(),
  madeAt: instantColumn('made_at').notNull(),
  deletedAt: instantColumn('deleted_at'),
})

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

/** Proofs of who somebody is that somebody has shown, until they count no longer. */
export const usedProofs = mysqlTable('used_proofs', {
  hash: hashColumn('hash', { length: 32 }).notNull().primaryKey(),
  holder: hashColumn('holder', { length: 32 }).notNull(),
  untilAt: instantColumn('until_at').notNull(),
})
