import { handsetMark, type Platform, platforms, uuidFromBytes } from '@zbell/core'
import { sql } from 'drizzle-orm'
import type { Database, Scope } from '../../database/index.ts'

export type NewestDevice = {
  readonly id: string
  readonly platform: Platform
  readonly rehearsal: boolean
  readonly registeredAt: Date
}

/** Among so many of the newest each kind is looked for: a search through all devices would grow with them. */
const among = 2_000

/** Of each platform the device that registered last, and the virtual handset that did; none of them retired. */
export async function newestDevices(database: Database, { app, environment }: Scope): Promise<NewestDevice[]> {
  type StoredDevice = { id: Buffer; platform: Platform; rehearsal: number; registeredAt: Date }
  const newest = (platform: Platform) => sql`select no, id, platform, registered_at as registeredAt,
      substring_index(token, '/', -1) like ${`${handsetMark}%`} as rehearsal
    from devices where app_no = ${app.no} and environment = ${environment} and platform = ${platform} and retired_at is null
    order by no desc limit ${among}`
  const one = (platform: Platform, rehearsal: boolean) =>
    sql`(select * from (${newest(platform)}) newest where rehearsal = ${rehearsal} order by no desc limit 1)`
  const found = await Promise.all(
    platforms.map((platform) =>
      database.rows<StoredDevice>(sql`${one(platform, false)} union all ${one(platform, true)}`),
    ),
  )
  return found.flat().map(({ id, platform, rehearsal, registeredAt }) => ({
    id: uuidFromBytes(id),
    platform,
    rehearsal: rehearsal === 1,
    registeredAt,
  }))
}
