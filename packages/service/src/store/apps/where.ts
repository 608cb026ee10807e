import type { Environment } from '@zbell/core'
import { type SQL, sql } from 'drizzle-orm'
import type { Scope } from './apps.ts'

/** One app in one environment, by number, as statements name it. */
export type Where = { readonly appNo: number; readonly environment: Environment }

export const whereOf = ({ app, environment }: Scope): Where => ({ appNo: app.no, environment })

/** Rows of one app in one environment, in a table that says both. */
export const inWhere = ({ appNo, environment }: Where): SQL => sql`app_no = ${appNo} and environment = ${environment}`
