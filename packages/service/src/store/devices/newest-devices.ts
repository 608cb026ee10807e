import { handsetMark, type Platform, platforms, uuidFromBytes } from '@zbell/core'
import type { Scope } from '../apps/apps.ts'
import type { Database } from '../database.ts'

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
  type Raw = { id: Buffer; platform: Platform; rehearsal: number; registeredAt: Date }
  const newest = `select no, id, platform, registered_at as registeredAt,
      substring_index(token, '/', -1) like '${handsetMark}%' as rehearsal
    from devices where app_no = ? and environment = ? and platform = ? and retired_at is null
    order by no desc limit ${among}`
  const one = (rehearsal: 0 | 1) =>
    `(select * from (${newest}) newest where rehearsal = ${rehearsal} order by no desc limit 1)`
  const found = await Promise.all(
    platforms.map((platform) => {
      const place = [app.no, environment, platform]
      return database.rows<Raw>(`${one(0)} union all ${one(1)}`, [...place, ...place])
    }),
  )
  return found.flat().map(({ id, platform, rehearsal, registeredAt }) => ({
    id: uuidFromBytes(id),
    platform,
    rehearsal: rehearsal === 1,
    registeredAt,
  }))
}
