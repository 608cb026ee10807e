import type { Environment, Platform } from '@zbell/core'
import { type SQL, sql } from 'drizzle-orm'
import type { accounts } from './schema/accounts.ts'
import type { devices } from './schema/devices.ts'

export type AppRow = {
  readonly no: number
  readonly slug: string
  readonly name: string
  readonly identifiers: Partial<Record<Platform, string>>
  readonly createdAt: Date
}

/** One app in one environment: what every key and every call of an app is bound to. */
export type Scope = { readonly app: AppRow; readonly environment: Environment }

/** One app in one environment, by number, as statements name it. */
export type Where = { readonly appNo: number; readonly environment: Environment }

export const whereOf = ({ app, environment }: Scope): Where => ({ appNo: app.no, environment })

/** Rows of one app in one environment, in a table that says both. */
export const inWhere = ({ appNo, environment }: Where): SQL => sql`app_no = ${appNo} and environment = ${environment}`

/** Whose gateway it is. */
export type GatewayPlace = Where & { readonly platform: Platform }

/** A device, with the name of its user. */
export type DeviceRow = typeof devices.$inferSelect & { readonly user: string | null }

/** Somebody who may sign in at the console. */
export type AccountRow = typeof accounts.$inferSelect

/**
 * Hears that an app speaks to a gateway in another way: what waited for that may go on.
 * @param isInUse what was changed is in use, and worth a check
 */
export type OnGateway = (place: GatewayPlace, isInUse: boolean) => Promise<void>
