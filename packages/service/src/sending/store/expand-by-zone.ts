import { unpackBlock } from '@zbell/core'
import { readersTurn } from '@zbell/core/calendar'
import { sql } from 'drizzle-orm'
import { findAppByNo, readSettings } from '../../apps/index.ts'
import { anyOf, type Database } from '../../database/index.ts'
import type { Notification } from '../../engine/index.ts'
import { workOf } from '../../queue/index.ts'
import { lookSize, targetDevices } from '../../targets/index.ts'
import type { ReaderCursor } from './expand-page.ts'

const withinMs = 120_000

/**
 * The devices whose hour has come, by their own clock, and which have not got the notification yet: who travels from one zone
 * to another gets it once. Who registers after the hour of their zone does not get it late.
 */
export async function lookForReaders(
  database: Database,
  notification: Notification,
  after: number,
  nowMs: number,
): Promise<ReaderCursor> {
  const { no, appNo, environment, target, readerLocal, readerPast, dueAt, createdAt, graceSeconds } = notification
  const patient = database.bounded({ withinMs })
  const app = await findAppByNo(database, appNo)
  const { timeZone } = app ? await readSettings(database, { app, environment }) : { timeZone: 'UTC' }
  const zones = await patient.rows<{ zone: string | null }>(
    sql`select distinct v.time_zone as zone from devices v force index (by_platform)
        where v.app_no = ${appNo} and v.environment = ${environment} and v.retired_at is null`,
  )
  const hour = {
    local: readerLocal ?? '',
    past: readerPast ?? 'skip',
    sentMs: (dueAt ?? createdAt).getTime(),
  }
  const own = [...new Set(zones.map(({ zone }) => zone ?? timeZone))]
  const { due, nextMs } = readersTurn(hour, own, { nowMs, graceMs: (graceSeconds ?? 0) * 1_000 })
  if (due.length === 0) return { after, numbers: [], whole: true, nextMs }
  const zone = sql`coalesce(v.time_zone, ${timeZone})`
  const theirTurn = anyOf(due.map((one) => sql`(${zone} = ${one.zone} and v.registered_at <= ${new Date(one.atMs)})`))
  const notYet = sql`(select 1 from deliveries r where r.notification_no = ${no} and r.device_no = v.no limit 1) is null`
  // The queue first: whoever leaves it between the two readings has a delivery by the second.
  const queued = new Set<number>()
  for (const { body } of await workOf(database, no, 'send'))
    for (const device of unpackBlock(body ?? new Uint8Array())) queued.add(device)
  const numbers = await targetDevices(
    patient,
    target,
    { appNo, environment },
    after,
    lookSize,
    sql`${theirTurn} and ${notYet}`,
  )
  return { after, numbers: numbers.filter((one) => !queued.has(one)), whole: numbers.length < lookSize, nextMs }
}
