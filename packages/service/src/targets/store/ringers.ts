import type { Mode, Platform } from '@zbell/core'
import type { QuietWindow } from '@zbell/core/policy'
import { type SQL, sql } from 'drizzle-orm'
import { anyOf, commas, type Reader } from '../../database/index.ts'
import { isReachable } from '../../segments/index.ts'
import { unionOf } from './target-devices.ts'

/** Devices of one person that a decision does not tell apart. */
export type Ringers = {
  /** A user’s number, or that of a device of nobody, below zero. */
  readonly person: number
  readonly platform: Platform
  readonly zone: string | null
  /** The person’s own quiet hours. */
  readonly own: readonly QuietWindow[]
  readonly devices: number
}

/** The quiet hours of the person of a device `v`, as text; empty where they have none. */
export const ownQuietOf = sql`coalesce((select q.quiet_hours from user_quiet_hours q where q.user_no = v.user_no), '')`

export const windowsOfText = (text: string): readonly QuietWindow[] =>
  text === '' ? [] : (JSON.parse(text) as readonly QuietWindow[])

/** Who would ring, person by person: for what cannot be asked of the database. @param lacks what somebody may not lack */
export async function ringersOf(
  reader: Reader,
  parts: readonly SQL[],
  {
    mode,
    channelNo,
    unserved,
    lacks,
  }: {
    readonly mode: Mode
    readonly channelNo: number | null
    readonly unserved: readonly Platform[]
    readonly lacks: readonly SQL[]
  },
): Promise<Ringers[]> {
  if (parts.length === 0) return []
  const whole = lacks.length === 0 ? sql`true` : sql`not ${anyOf(lacks)}`
  const columns = commas([
    sql`v.no, v.platform, v.time_zone as zone`,
    sql`coalesce(cast(v.user_no as signed), -cast(v.no as signed)) as person`,
    sql`${ownQuietOf} as own`,
    sql`${isReachable(mode, channelNo, unserved)} and ${whole} as rings`,
  ])
  const rows = await reader.rows<Omit<Ringers, 'own'> & { readonly own: string }>(
    sql`select person, platform, zone, own, count(*) as devices from (${unionOf(parts, columns)}) devices
        where rings group by person, platform, zone, own`,
  )
  return rows.map((row) => ({ ...row, own: windowsOfText(row.own) }))
}
