import { meaningOfRegistration } from '@zbell/core'
import type { Scope } from '../apps/apps.ts'
import type { Database, Tx } from '../database.ts'
import { ensureUser, forgetAnonymous, mergeAnonymous } from '../people/ensure-user.ts'
import { noteEvent } from './device-events.ts'
import { type DeviceAddress, type DeviceFacts, noteChanges } from './register-device.ts'

export type DeviceChanges = { readonly [Name in keyof DeviceFacts]?: DeviceFacts[Name] | undefined } & {
  readonly address?: DeviceAddress | undefined
  /** What is known of the anonymous person goes to the user who signs in. */
  readonly merge?: boolean | undefined
}

/** The new token cannot be this device's: it is another one's, or it was given up. Whoever asks has to register again. */
export class TokenNotOwn extends Error {
  override readonly name = 'TokenNotOwn'
}

const columnOf = {
  permission: 'permission',
  muted: 'muted',
  allows: 'allows',
  locale: 'locale',
  timeZone: 'time_zone',
  appVersion: 'app_version',
  systemVersion: 'system_version',
  model: 'model',
} as const

type Before = {
  readonly no: number
  readonly platform: string
  readonly tokenHash: Buffer | null
  readonly permission: string
  readonly muted: number
  readonly userNo: number | null
  readonly user: string | null
  readonly retired: number
}

/** Writes what a device says of itself, and that it was seen. @throws {TokenNotOwn} */
export async function changeDevice(
  database: Database,
  scope: Scope,
  deviceNo: number,
  changes: DeviceChanges,
): Promise<void> {
  await database.transact(async (tx) => {
    const [before] = await tx.rows<Before>(
      `select v.no, v.platform, v.token_hash as tokenHash, v.permission, v.muted, v.user_no as userNo, u.name as user,
         v.retired_at is not null as retired
       from devices v left join users u on u.no = v.user_no where v.no = ? for update`,
      [deviceNo],
    )
    if (!before) return
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
    if (changes.user !== undefined) {
      const userNo = changes.user === null ? null : await ensureUser(tx, scope, changes.user)
      // Saying the same name again must not part a device from an anonymous person that it has.
      if (changes.user !== before.user || userNo !== null) set('user_no', userNo)
      if (userNo !== null && before.userNo !== null && before.user === null) {
        if (changes.merge) await mergeAnonymous(tx, before.userNo, userNo)
        else await forgetAnonymous(tx, before.userNo)
      }
    }
    if (changes.address) {
      await checkToken(tx, scope, before, changes.address)
      set('token', changes.address.token)
      set('token_hash', changes.address.tokenHash)
      set('p256dh', changes.address.p256dh)
      set('auth', changes.address.auth)
      sets.push('retired_at = null', 'retired_reason = null')
      if (before.retired === 1) await noteEvent(tx, before.no, 'revived')
    }
    await tx.change(`update devices set ${sets.join(', ')} where no = ?`, [...values, deviceNo])
    await noteChanges(tx, before, changes)
  })
}

async function checkToken(tx: Tx, scope: Scope, before: Before, { tokenHash }: DeviceAddress): Promise<void> {
  const [owner] = await tx.rows<{ no: number }>(
    'select no from devices where app_no = ? and environment = ? and platform = ? and token_hash = ?',
    [scope.app.no, scope.environment, before.platform, tokenHash],
  )
  const given = await tx.rows('select 1 from device_tokens where device_no = ? and token_hash = ?', [
    before.no,
    tokenHash,
  ])
  const meaning = meaningOfRegistration({
    byInstallation: before.no,
    byToken: owner?.no,
    tokenGivenUp: given.length > 0,
  })
  if (meaning.is === 'token-moved' || meaning.is === 'restored-copy') throw new TokenNotOwn()
  if (meaning.is !== 'new-token' || !before.tokenHash) return
  await tx.change(
    'insert ignore into device_tokens (device_no, token_hash, until_at) values (?, ?, utc_timestamp(3))',
    [before.no, before.tokenHash],
  )
  await noteEvent(tx, before.no, 'new-token')
}

/** The app says goodbye: the device is kept for the record and revives when it registers again. */
export async function unregisterDevice(database: Database, deviceNo: number): Promise<void> {
  await database.transact(async (tx) => {
    const { affectedRows } = await tx.change(
      `update devices set retired_at = utc_timestamp(3), retired_reason = 'unregistered', changed_at = utc_timestamp(3)
       where no = ? and retired_at is null`,
      [deviceNo],
    )
    if (affectedRows === 1) await noteEvent(tx, deviceNo, 'unregistered')
  })
}
