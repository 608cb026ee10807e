import { deviceEvents } from '@zbell/core'
import { sql } from 'drizzle-orm'
import {
  build,
  type Database,
  formerDevices,
  type Reader,
  select,
  type Tx,
  deviceEvents as table,
  users,
  type Where,
} from '../../database/index.ts'
import { noteEvent } from './device-events.ts'

/** So many go in one statement. */
const batchSize = 10_000

/** Somebody is not signed in on a device any more, whoever is now. */
export async function noteLeaving(tx: Tx, deviceNo: number, user: string): Promise<void> {
  await noteEvent(tx, deviceNo, 'signed-out', user)
  await tx.change(
    sql`insert into former_devices (user_no, device_no, left_at)
        select u.no, d.no, utc_timestamp(3) from devices d
        join users u on u.app_no = d.app_no and u.environment = d.environment and u.name = ${user}
        where d.no = ${deviceNo}
        on duplicate key update left_at = value(left_at)`,
  )
}

/** Devices that somebody has left since, the latest first. */
export async function devicesLeftSince(
  reader: Reader,
  { appNo, environment }: Where,
  user: string,
  since: Date,
  limit: number,
): Promise<number[]> {
  const rows = await select(
    reader,
    { no: formerDevices.deviceNo },
    sql`from ${users} join ${formerDevices} on ${formerDevices.userNo} = ${users.no} where ${users.appNo} = ${appNo}
        and ${users.environment} = ${environment} and ${users.name} = ${user} and ${formerDevices.leftAt} > ${since}
        order by ${formerDevices.leftAt} desc limit ${limit}`,
  )
  return rows.map(({ no }) => no)
}

/** Who was signed in on a device at a moment; `null` for nobody. @param now who is */
export async function userAt(reader: Reader, deviceNo: number, at: Date, now: string | null): Promise<string | null> {
  const [first] = await select(
    reader,
    { what: table.what, detail: table.detail },
    sql`from ${table} where ${table.deviceNo} = ${deviceNo} and ${table.at} > ${at}
          and ${table.what} in (${deviceEvents['signed-in'].code}, ${deviceEvents['signed-out'].code}) order by ${table.no} limit 1`,
  )
  if (!first) return now
  // Whoever leaves was there; where somebody comes first, nobody was.
  return first.what === deviceEvents['signed-out'].code ? first.detail : null
}

/** Of what is older than deliveries are kept nobody can ask any more. */
export async function pruneFormerDevices(database: Database, days: number, mayGoOn: () => boolean): Promise<void> {
  while (mayGoOn()) {
    const { affectedRows } = await database.change(
      build
        .delete(formerDevices)
        .where(sql`${formerDevices.leftAt} < utc_timestamp(3) - interval ${days} day`)
        .limit(batchSize),
    )
    if (affectedRows < batchSize) return
  }
}
