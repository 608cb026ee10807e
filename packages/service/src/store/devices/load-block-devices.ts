import type { Permission, Platform } from '@zbell/core'
import type { Database } from '../database.ts'

/** What sending needs of a device, and no more: a block loads two thousand of them. */
export type BlockDevice = {
  readonly no: number
  readonly platform: Platform
  readonly permission: Permission
  readonly muted: boolean
  readonly retired: boolean
  readonly token: string
  readonly p256dh: Buffer | null
  readonly auth: Buffer | null
}

type Raw = Omit<BlockDevice, 'muted' | 'retired'> & { muted: number; retired: number }

/** @param numbers ascending; at most a block's worth */
export async function loadBlockDevices(database: Database, numbers: readonly number[]): Promise<BlockDevice[]> {
  if (numbers.length === 0) return []
  const rows = await database.rows<Raw>(
    `select no, platform, permission, muted, retired_at is not null as retired, token, p256dh, auth
     from devices where no in (${numbers.join(',')})`,
  )
  return rows.map((row) => ({ ...row, muted: row.muted === 1, retired: row.retired === 1 }))
}
