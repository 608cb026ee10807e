import { handsetMark, type Platform, uuidFromBytes } from '@zbell/core'
import type { Scope } from '../apps/apps.ts'
import type { Database } from '../database.ts'

export type NewestDevice = {
  readonly id: string
  readonly platform: Platform
  readonly rehearsal: boolean
  readonly registeredAt: Date
}

/** Of each platform the device that registered last, and the virtual handset that did; none of them retired. */
export async function newestDevices(database: Database, { app, environment }: Scope): Promise<NewestDevice[]> {
  type Raw = { id: Buffer; platform: Platform; rehearsal: number; registeredAt: Date }
  const isHandset = `substring_index(token, '/', -1) like '${handsetMark}%'`
  const one = (rehearsal: 0 | 1) => `(select id, platform, ${rehearsal} as rehearsal, registered_at as registeredAt
    from devices where app_no = ? and environment = ? and platform = ? and retired_at is null
    and ${rehearsal ? '' : 'not '}${isHandset} order by no desc limit 1)`
  const place = (platform: Platform) => [app.no, environment, platform, app.no, environment, platform]
  const found = await Promise.all(
    (['ios', 'android', 'web'] as const).map((platform) =>
      database.rows<Raw>(`${one(0)} union all ${one(1)}`, place(platform)),
    ),
  )
  return found.flat().map((row) => ({ ...row, id: uuidFromBytes(row.id), rehearsal: row.rehearsal === 1 }))
}
