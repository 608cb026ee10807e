import { type DeviceEvent, deviceEventOfCode, deviceEvents } from '@zbell/core'
import { sql } from 'drizzle-orm'
import { build, type Database, now, select, type Tx, deviceEvents as table } from '../../database/index.ts'
import { publishDeviceEvent } from './publish-devices.ts'

/** So many events of a device are kept, and a few more. */
const eventsKept = 200
const trimsEvery = 8

/** Writes down what happened to a device, in the transaction in which it happens, and lets those hear of it who listen. */
export async function noteEvent(tx: Tx, deviceNo: number, event: DeviceEvent, detail: string | null = null) {
  const { insertId } = await tx.change(
    build
      .insert(table)
      .values({ deviceNo, at: now, what: deviceEvents[event].code, detail: detail?.slice(0, 200) ?? null }),
  )
  // Now and then is enough: what is over goes by chance, since the numbers are everybody's.
  if (insertId % trimsEvery === 0)
    await tx.change(
      sql`delete from device_events where device_no = ${deviceNo} and no <= (
        select no from (select no from device_events where device_no = ${deviceNo} order by no desc limit 1 offset ${eventsKept}) as older)`,
    )
  await publishDeviceEvent(tx, deviceNo, event)
}

export type EventRow = { readonly event: DeviceEvent; readonly at: Date; readonly detail: string | null }

/** Newest first. */
export async function listEvents(database: Database, deviceNo: number, limit: number): Promise<EventRow[]> {
  const rows = await select(
    database,
    { what: table.what, at: table.at, detail: table.detail },
    sql`from ${table} where ${table.deviceNo} = ${deviceNo} order by ${table.no} desc limit ${limit}`,
  )
  return rows.map(({ what, ...row }) => ({ ...row, event: deviceEventOfCode(what) }))
}
