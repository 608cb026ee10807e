import { type DeviceEvent, deviceEventOfCode, deviceEvents } from '@zbell/core'
import { sql } from 'drizzle-orm'
import type { Database, Tx } from '../database.ts'
import { tellDeviceEvent } from '../webhooks/tell-devices.ts'

/** Writes down what happened to a device, in the transaction in which it happens, and lets those hear of it who listen. */
export async function noteEvent(tx: Tx, deviceNo: number, event: DeviceEvent, detail: string | null = null) {
  await tx.change(
    sql`insert into device_events (device_no, at, what, detail) values (${deviceNo}, utc_timestamp(3), ${deviceEvents[event].code}, ${detail?.slice(0, 200) ?? null})`,
  )
  await tellDeviceEvent(tx, deviceNo, event)
}

export type EventRow = { readonly event: DeviceEvent; readonly at: Date; readonly detail: string | null }

/** Newest first. */
export async function listEvents(database: Database, deviceNo: number, limit: number): Promise<EventRow[]> {
  const rows = await database.rows<{ what: number; at: Date; detail: string | null }>(
    sql`select what, at, detail from device_events where device_no = ${deviceNo} order by no desc limit ${limit}`,
  )
  return rows.map(({ what, ...row }) => ({ ...row, event: deviceEventOfCode(what) }))
}
