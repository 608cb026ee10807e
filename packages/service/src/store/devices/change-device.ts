import type { Scope } from '../apps/apps.ts'
import type { Database } from '../database.ts'
import { type DeviceAddress, type DeviceFacts, ensureUser } from './register-device.ts'

export type DeviceChanges = { readonly [Name in keyof DeviceFacts]?: DeviceFacts[Name] | undefined } & {
  readonly address?: DeviceAddress | undefined
}

const columnOf = {
  permission: 'permission',
  muted: 'muted',
  locale: 'locale',
  timeZone: 'time_zone',
  appVersion: 'app_version',
  systemVersion: 'system_version',
  model: 'model',
} as const

/** Writes what a device says of itself, and that it was seen. @throws {NameTaken} when the new token is another device's */
export async function changeDevice(
  database: Database,
  scope: Scope,
  deviceNo: number,
  changes: DeviceChanges,
): Promise<void> {
  await database.transact(async (tx) => {
    const sets = ['seen_at = utc_timestamp(3)', 'changed_at = utc_timestamp(3)']
    const values: unknown[] = []
    const set = (column: string, value: unknown) => {
      sets.push(`${column} = ?`)
      values.push(value)
    }
    for (const [name, column] of Object.entries(columnOf)) {
      const value = changes[name as keyof typeof columnOf]
      if (value !== undefined) set(column, value)
    }
    if (changes.user !== undefined)
      set('user_no', changes.user === null ? null : await ensureUser(tx, scope, changes.user))
    if (changes.address) {
      set('token', changes.address.token)
      set('token_hash', changes.address.tokenHash)
      set('p256dh', changes.address.p256dh)
      set('auth', changes.address.auth)
      sets.push('retired_at = null', 'retired_reason = null')
    }
    await tx.change(`update devices set ${sets.join(', ')} where no = ?`, [...values, deviceNo])
  })
}
