import type { Values } from '@zbell/core'
import { sql } from 'drizzle-orm'
import { type Database, deliveries, notifications, type Reader, select } from '../../database/index.ts'
import type { BlockDevice } from '../../engine/index.ts'
import { attributesOf } from './attributes.ts'

export type RawBlockDevice = Omit<BlockDevice, 'muted' | 'retired'> & { muted: number; retired: number }

/** Of a device `v`. */
export const blockDeviceColumns = sql`v.no, v.platform, v.permission, v.muted, v.retired_at is not null as retired, v.token,
  v.p256dh, v.auth, v.user_no as userNo, v.locale, v.time_zone as timeZone`

export const blockDeviceOf = (row: RawBlockDevice): BlockDevice => ({
  ...row,
  muted: row.muted === 1,
  retired: row.retired === 1,
})

/** @param numbers ascending; at most a block's worth */
export async function loadBlockDevices(database: Reader, numbers: readonly number[]): Promise<BlockDevice[]> {
  if (numbers.length === 0) return []
  const rows = await database.rows<RawBlockDevice>(
    sql`select ${blockDeviceColumns} from devices v where v.no in ${numbers}`,
  )
  return rows.map(blockDeviceOf)
}

/** What is known of people, as far as texts can speak of it: a place has no words. */
export async function readersValues(database: Reader, userNos: readonly number[]): Promise<Map<number, Values>> {
  const all = await attributesOf(database, userNos)
  return new Map(
    [...all].map(([no, attributes]) => [
      no,
      Object.fromEntries(
        Object.entries(attributes).flatMap(([name, value]) => (typeof value === 'object' ? [] : [[name, value]])),
      ),
    ]),
  )
}

/** Devices among these that a newer notification of the same tag has reached already. */
export async function superseded(
  database: Database,
  notification: { readonly no: number; readonly appNo: number; readonly environment: string },
  tag: string,
  numbers: readonly number[],
): Promise<Set<number>> {
  const newer = await select(
    database,
    { no: notifications.no },
    sql`from ${notifications} where ${notifications.appNo} = ${notification.appNo}
        and ${notifications.environment} = ${notification.environment} and ${notifications.tag} = ${tag}
        and ${notifications.no} > ${notification.no} order by ${notifications.no} desc limit 50`,
  )
  if (newer.length === 0 || numbers.length === 0) return new Set()
  const rows = await select(
    database,
    { no: deliveries.deviceNo },
    sql`from ${deliveries} where ${deliveries.notificationNo} in ${newer.map(({ no }) => no)}
        and ${deliveries.deviceNo} in ${numbers} and ${deliveries.state} < 10`,
  )
  return new Set(rows.map(({ no }) => no))
}
