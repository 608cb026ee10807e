// Who may come in.
import { index, mysqlEnum, mysqlTable, uniqueIndex } from 'drizzle-orm/mysql-core'
import { caselessText, hashColumn, instantColumn, reference, rowNo, text } from '../columns.ts'

/** Who may sign in at the console. */
export const accounts = mysqlTable(
  'accounts',
  {
    no: rowNo(),
    email: caselessText('email', { length: 200 }).notNull(),
    name: text('name', { length: 80 }).notNull(),
    role: mysqlEnum('role', ['viewer', 'sender', 'owner']).notNull(),
    passwordHash: text('password_hash', { length: 200 }).notNull(),
    createdAt: instantColumn('created_at').notNull(),
  },
  (table) => [uniqueIndex('email').on(table.email)],
)

/** Sessions of the console, by digest of their cookie. */
export const sessions = mysqlTable(
  'sessions',
  {
    hash: hashColumn('hash', { length: 32 }).primaryKey(),
    accountNo: reference('account_no')
      .notNull()
      .references(() => accounts.no, { onDelete: 'cascade' }),
    expiresAt: instantColumn('expires_at').notNull(),
  },
  (table) => [index('by_end').on(table.expiresAt), index('by_account').on(table.accountNo)],
)

/** Links that sign somebody in once, by digest. */
export const signInLinks = mysqlTable(
  'sign_in_links',
  {
    hash: hashColumn('hash', { length: 32 }).primaryKey(),
    accountNo: reference('account_no')
      .notNull()
      .references(() => accounts.no, { onDelete: 'cascade' }),
    expiresAt: instantColumn('expires_at').notNull(),
  },
  (table) => [index('by_account').on(table.accountNo)],
)

/** Browsers in which an account signed in before, by digest of their cookie. */
export const knownBrowsers = mysqlTable(
  'known_browsers',
  {
    hash: hashColumn('hash', { length: 32 }).primaryKey(),
    accountNo: reference('account_no')
      .notNull()
      .references(() => accounts.no, { onDelete: 'cascade' }),
    expiresAt: instantColumn('expires_at').notNull(),
  },
  (table) => [index('by_end').on(table.expiresAt), index('by_account').on(table.accountNo)],
)
