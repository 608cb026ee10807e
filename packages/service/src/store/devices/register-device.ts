import type { Scope } from '../apps/apps.ts'
import { uuidBuffer } from '../columns.ts'
import type { Database, Tx } from '../database.ts'

export type DeviceAddress = {
  readonly token: string
  readonly tokenHash: Buffer
  readonly p256dh: Buffer | null
  readonly auth: Buffer | null
}

export type DeviceFacts = {
  readonly permission: string
  readonly muted: boolean
  readonly user: string | null
  readonly locale: string | null
  readonly timeZone: string | null
  readonly appVersion: string | null
  readonly systemVersion: string | null
  readonly model: string | null
}

export type NewDevice = DeviceFacts & {
  readonly id: string
  readonly platform: string
  readonly address: DeviceAddress
  readonly secretHash: Buffer
}

/** The number of a user, made when it is the first time that anybody speaks of them. */
export async function ensureUser(tx: Tx, scope: Scope, name: string): Promise<number> {
  const known = await tx.rows<{ no: number }>(
    'select no from users where app_no = ? and environment = ? and name = ?',
    [scope.app.no, scope.environment, name],
  )
  if (known[0]) return known[0].no
  const { insertId } = await tx.change(
    'insert into users (app_no, environment, name) values (?) on duplicate key update no = last_insert_id(no)',
    [[scope.app.no, scope.environment, name]],
  )
  return insertId
}

/**
 * Registers a device: one row for one token, however often it comes. Whoever holds the token speaks for the device from
 * then on; an earlier secret ends, and so does an earlier tie to a user, since the phone may have another owner.
 */
export async function registerDevice(database: Database, scope: Scope, device: NewDevice): Promise<void> {
  const { address } = device
  await database.transact(async (tx) => {
    const userNo = device.user === null ? null : await ensureUser(tx, scope, device.user)
    await tx.change(
      `insert into devices (id, app_no, environment, platform, token, token_hash, p256dh, auth, secret_hash, user_no,
         permission, muted, locale, time_zone, app_version, system_version, model, registered_at, seen_at, changed_at)
       values (?, utc_timestamp(3), utc_timestamp(3), utc_timestamp(3))
       on duplicate key update p256dh = value(p256dh), auth = value(auth), secret_hash = value(secret_hash),
         user_no = value(user_no), permission = value(permission), muted = value(muted), locale = value(locale),
         time_zone = value(time_zone), app_version = value(app_version), system_version = value(system_version),
         model = value(model), seen_at = value(seen_at), changed_at = value(changed_at),
         retired_at = null, retired_reason = null`,
      [
        [
          uuidBuffer(device.id),
          scope.app.no,
          scope.environment,
          device.platform,
          address.token,
          address.tokenHash,
          address.p256dh,
          address.auth,
          device.secretHash,
          userNo,
          device.permission,
          device.muted,
          device.locale,
          device.timeZone,
          device.appVersion,
          device.systemVersion,
          device.model,
        ],
      ],
    )
  })
}
