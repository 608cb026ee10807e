import type { Environment } from '@zbell/core'
import type { Scope } from './apps.ts'

/** One app in one environment, by number, as statements name it. */
export type Where = { readonly appNo: number; readonly environment: Environment }

export const whereOf = ({ app, environment }: Scope): Where => ({ appNo: app.no, environment })
