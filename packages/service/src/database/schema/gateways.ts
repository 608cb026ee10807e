// How an app speaks to its gateways.
import { platforms } from '@zbell/core'
import { date, int, mysqlEnum, mysqlTable, primaryKey, uniqueIndex } from 'drizzle-orm/mysql-core'
import { appNo, asciiText, document, environment, hashColumn, instantColumn, rowNo, text, whole } from '../columns.ts'
import { apps } from './apps.ts'

const platform = () => mysqlEnum('platform', platforms).notNull()

/** Each version of an app’s own gateway profile. One of a platform is in use, one may wait. */
export const gatewayProfiles = mysqlTable(
  'gateway_profiles',
  {
    no: int('no', { unsigned: true }).autoincrement().primaryKey(),
    appNo: appNo().references(() => apps.no),
    environment: environment(),
    platform: platform(),
    version: whole('version').notNull(),
    slot: mysqlEnum('slot', ['in-use', 'waiting']),
    name: asciiText('name', { length: 64 }).notNull(),
    asksFor: asciiText('asks_for', { length: 20 }).notNull(),
    outdatedFrom: date('outdated_from', { mode: 'string' }),
    body: document('body').notNull(),
    madeBy: text('made_by', { length: 220 }).notNull(),
    madeAt: instantColumn('made_at').notNull(),
  },
  (table) => [
    uniqueIndex('by_slot').on(table.appNo, table.environment, table.platform, table.slot),
    uniqueIndex('by_version').on(table.appNo, table.environment, table.platform, table.version),
  ],
)

/** When a token for a gateway was signed last: some gateways refuse more than one in a while, whichever process signs it. */
export const signedTokens = mysqlTable('signed_tokens', {
  name: hashColumn('name', { length: 32 }).primaryKey(),
  madeAt: instantColumn('made_at').notNull(),
})

/** Until when the exchanges with a gateway are recorded. */
export const gatewayRecordings = mysqlTable(
  'gateway_recordings',
  { appNo: appNo(), environment: environment(), platform: platform(), until: instantColumn('until').notNull() },
  (table) => [primaryKey({ columns: [table.appNo, table.environment, table.platform] })],
)

/** Recorded exchanges with a gateway, without their secrets. */
export const gatewayExchanges = mysqlTable('gateway_exchanges', {
  no: rowNo(),
  appNo: appNo(),
  environment: environment(),
  platform: platform(),
  exchange: document('exchange').notNull(),
})
