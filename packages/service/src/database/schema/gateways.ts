// How an app speaks to its gateways.
import { platforms } from '@zbell/core'
import { date, int, mediumtext, mysqlEnum, mysqlTable, primaryKey, varchar } from 'drizzle-orm/mysql-core'
import { appNo, environment, hashColumn, instantColumn, rowNo } from '../columns.ts'

const platform = () => mysqlEnum('platform', platforms).notNull()

export const gatewayProfiles = mysqlTable('gateway_profiles', {
  no: int('no', { unsigned: true }).autoincrement().primaryKey(),
  appNo: appNo(),
  environment: environment(),
  platform: platform(),
  version: int('version', { unsigned: true }).notNull(),
  slot: mysqlEnum('slot', ['in-use', 'waiting']),
  name: varchar('name', { length: 64 }).notNull(),
  asksFor: varchar('asks_for', { length: 20 }).notNull(),
  outdatedFrom: date('outdated_from', { mode: 'string' }),
  body: mediumtext('body').notNull(),
  madeBy: varchar('made_by', { length: 220 }).notNull(),
  madeAt: instantColumn('made_at').notNull(),
})

export const signedTokens = mysqlTable('signed_tokens', {
  name: hashColumn('name', { length: 32 }).primaryKey(),
  madeAt: instantColumn('made_at').notNull(),
})

export const gatewayRecordings = mysqlTable(
  'gateway_recordings',
  { appNo: appNo(), environment: environment(), platform: platform(), until: instantColumn('until').notNull() },
  (table) => [primaryKey({ columns: [table.appNo, table.environment, table.platform] })],
)

export const gatewayExchanges = mysqlTable('gateway_exchanges', {
  no: rowNo(),
  appNo: appNo(),
  environment: environment(),
  platform: platform(),
  exchange: mediumtext('exchange').notNull(),
})
