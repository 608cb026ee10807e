import type { Credential } from '@zbell/contract'
import { type CheckVerdict, environments, permissions, platforms } from '@zbell/core'
import { bigint, boolean, int, json, mysqlEnum, mysqlTable, varchar } from 'drizzle-orm/mysql-core'
import { bytesColumn, instantColumn, uuidColumn } from './columns.ts'

const no = () => bigint('no', { mode: 'number' }).primaryKey().autoincrement()
const appNo = () => int('app_no').notNull()
const environment = () => mysqlEnum('environment', environments).notNull()

export const apps = mysqlTable('apps', {
  no: int('no').primaryKey().autoincrement(),
  slug: varchar('slug', { length: 40 }).notNull(),
  name: varchar('name', { length: 80 }).notNull(),
  identifiers: json('identifiers').$type<Partial<Record<(typeof platforms)[number], string>>>().notNull(),
  createdAt: instantColumn('created_at').notNull(),
})

export const keys = mysqlTable('api_keys', {
  no: no(),
  id: uuidColumn('id').notNull(),
  appNo: appNo(),
  environment: environment(),
  kind: mysqlEnum('kind', ['backend', 'app']).notNull(),
  role: mysqlEnum('role', ['viewer', 'sender', 'owner']),
  name: varchar('name', { length: 80 }).notNull(),
  hash: bytesColumn('hash', { length: 32 }).notNull(),
  createdAt: instantColumn('created_at').notNull(),
  madeBy: varchar('made_by', { length: 220 }).notNull(),
  usedAt: instantColumn('used_at'),
  revokedAt: instantColumn('revoked_at'),
  revokedBy: varchar('revoked_by', { length: 220 }),
})

export const credentials = mysqlTable('credentials', {
  no: no(),
  id: uuidColumn('id').notNull(),
  appNo: appNo(),
  environment: environment(),
  platform: mysqlEnum('platform', platforms).notNull(),
  kind: varchar('kind', { length: 20 }).$type<Credential['kind']>().notNull(),
  slot: mysqlEnum('slot', ['in-use', 'waiting']),
  fingerprint: varchar('fingerprint', { length: 64 }),
  publicKeyHash: varchar('public_key_hash', { length: 64 }),
  subject: varchar('subject', { length: 1_000 }),
  serial: varchar('serial', { length: 100 }),
  keyId: varchar('key_id', { length: 100 }),
  issuer: varchar('issuer', { length: 200 }),
  notBefore: instantColumn('not_before'),
  notAfter: instantColumn('not_after'),
  sealed: bytesColumn('sealed', { length: 16_000 }).notNull(),
  createdAt: instantColumn('created_at').notNull(),
  addedBy: varchar('added_by', { length: 220 }).notNull(),
  retiredAt: instantColumn('retired_at'),
  retiredBy: varchar('retired_by', { length: 220 }),
  usedAt: instantColumn('used_at'),
  rejectedAt: instantColumn('rejected_at'),
  checkedAt: instantColumn('checked_at'),
  verdict: json('verdict').$type<CheckVerdict>(),
  roundTripMs: int('round_trip_ms'),
  announcedDays: int('announced_days'),
})

export const accounts = mysqlTable('accounts', {
  no: no(),
  email: varchar('email', { length: 200 }).notNull(),
  name: varchar('name', { length: 80 }).notNull(),
  role: mysqlEnum('role', ['viewer', 'sender', 'owner']).notNull(),
  passwordHash: varchar('password_hash', { length: 200 }).notNull(),
  createdAt: instantColumn('created_at').notNull(),
})

export const sessions = mysqlTable('sessions', {
  hash: bytesColumn('hash', { length: 32 }).primaryKey(),
  accountNo: bigint('account_no', { mode: 'number' }).notNull(),
  expiresAt: instantColumn('expires_at').notNull(),
})

export const signInLinks = mysqlTable('sign_in_links', {
  hash: bytesColumn('hash', { length: 32 }).primaryKey(),
  accountNo: bigint('account_no', { mode: 'number' }).notNull(),
  expiresAt: instantColumn('expires_at').notNull(),
})

export const users = mysqlTable('users', {
  no: no(),
  appNo: appNo(),
  environment: environment(),
  name: varchar('name', { length: 128 }),
  createdAt: instantColumn('created_at').notNull(),
  changedAt: instantColumn('changed_at').notNull(),
})

export const devices = mysqlTable('devices', {
  no: no(),
  id: uuidColumn('id').notNull(),
  appNo: appNo(),
  environment: environment(),
  platform: mysqlEnum('platform', platforms).notNull(),
  token: varchar('token', { length: 4_096 }).notNull(),
  installation: varchar('installation', { length: 64 }),
  tokenHash: bytesColumn('token_hash', { length: 32 }),
  p256dh: bytesColumn('p256dh', { length: 65 }),
  auth: bytesColumn('auth', { length: 16 }),
  secretHash: bytesColumn('secret_hash', { length: 32 }).notNull(),
  userNo: bigint('user_no', { mode: 'number' }),
  permission: mysqlEnum('permission', permissions).notNull(),
  muted: boolean('muted').notNull(),
  allows: int('allows'),
  locale: varchar('locale', { length: 35 }),
  timeZone: varchar('time_zone', { length: 64 }),
  appVersion: varchar('app_version', { length: 64 }),
  systemVersion: varchar('system_version', { length: 64 }),
  model: varchar('model', { length: 64 }),
  registeredAt: instantColumn('registered_at').notNull(),
  seenAt: instantColumn('seen_at').notNull(),
  receiptAt: instantColumn('receipt_at'),
  changedAt: instantColumn('changed_at').notNull(),
  retiredAt: instantColumn('retired_at'),
  retiredReason: varchar('retired_reason', { length: 40 }),
})
