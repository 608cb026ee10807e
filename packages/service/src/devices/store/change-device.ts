import { meaningOfRegistration } from '@zbell/core'
import { and, eq, isNull, type SQL, sql } from 'drizzle-orm'
import { build, commas, type Database, devices, now, type Scope, select, type Tx } from '../../database/index.ts'
import { noteEvent } from './device-events.ts'
import { ensureUser, mergeAnonymous, pruneAnonymous } from './ensure-user.ts'
import { type DeviceAddress, type DeviceFacts, gaveUp, giveUp, noteChanges, vacate } from './register-device.ts'

export type DeviceChanges = { readonly [Name in keyof DeviceFacts]?: DeviceFacts[Name] | undefined } & {
  readonly address?: DeviceAddress | undefined
  /** Whether it was proved now that it is its user’s. */
  readonly userProved?: boolean
  /** What is known of the anonymous person goes to the user who signs in. */
  readonly merge?: boolean | undefined
}

/** The device gave this token up before, so whoever asks is a copy from a backup, and has to register again. */
export class TokenNotOwn extends Error {
  override readonly name = 'TokenNotOwn'
}

const columnOf = {
  permission: sql`permission`,
  muted: sql`muted`,
  allows: sql`allows`,
  locale: sql`locale`,
  timeZone: sql`time_zone`,
  appVersion: sql`app_version`,
  systemVersion: sql`system_version`,
  model: sql`model`,
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
      sql`select v.no, v.platform, v.token_hash as tokenHash, v.permission, v.muted, v.user_no as userNo, u.name as user,
         v.retired_at is not null as retired
       from devices v left join users u on u.no = v.user_no where v.no = ${deviceNo} for update`,
    )
    if (!before) return
    const sets = [sql`seen_at = utc_timestamp(3)`, sql`changed_at = utc_timestamp(3)`]
    const set = (column: SQL, value: unknown) => {
      sets.push(sql`${column} = ${value}`)
    }
    for (const [name, column] of Object.entries(columnOf)) {
      const value = changes[name as keyof typeof columnOf]
      if (value !== undefined) set(column, value)
    }
    if (changes.user !== undefined) {
      const userNo = changes.user === null ? null : await ensureUser(tx, scope, changes.user)
      if (changes.user !== before.user) set(sql`user_proved`, changes.userProved ?? false)
      // Saying the same name again must not part a device from an anonymous person that it has.
      if (changes.user !== before.user || userNo !== null) set(sql`user_no`, userNo)
      if (userNo !== null && before.userNo !== null && before.user === null) {
        if (changes.merge) await mergeAnonymous(tx, before.userNo, userNo)
        else await pruneAnonymous(tx, before.userNo)
      }
    }
    if (changes.address) {
      await takeToken(tx, scope, before, changes.address)
      set(sql`token`, changes.address.token)
      set(sql`token_hash`, changes.address.tokenHash)
      set(sql`p256dh`, changes.address.p256dh)
      set(sql`auth`, changes.address.auth)
      sets.push(sql`retired_at = null`, sql`retired_reason = null`)
      if (before.retired === 1) await noteEvent(tx, before.no, 'revived')
    }
    await tx.change(sql`update devices set ${commas(sets)} where no = ${deviceNo}`)
    await noteChanges(tx, before, changes)
  })
}

/** The same as registering with the device’s secret, so that nobody learns here which tokens are known. */
async function takeToken(tx: Tx, scope: Scope, before: Before, { tokenHash }: DeviceAddress): Promise<void> {
  const [owner] = await select(
    tx,
    { no: devices.no, tokenHash: devices.tokenHash },
    sql`from ${devices} where ${devices.appNo} = ${scope.app.no} and ${devices.environment} = ${scope.environment}
      and ${devices.platform} = ${before.platform} and ${devices.tokenHash} = ${tokenHash}`,
  )
  const meaning = meaningOfRegistration({
    proven: before.no,
    byInstallation: undefined,
    byToken: owner?.no,
    unclaimed: false,
    justNow: false,
    tokenGivenUp: owner === undefined && (await gaveUp(tx, before.no, tokenHash)),
  })
  if (meaning.is === 'restored-copy') throw new TokenNotOwn()
  if (meaning.is === 'same') return
  if (owner) await vacate(tx, owner)
  await giveUp(tx, before)
  await noteEvent(tx, before.no, 'new-token')
}

/** The app says goodbye: the device is kept for the record and revives when it registers again. */
export async function unregisterDevice(database: Database, deviceNo: number): Promise<void> {
  await database.transact(async (tx) => {
    const { affectedRows } = await tx.change(
      build
        .update(devices)
        .set({ retiredAt: now, retiredReason: 'unregistered', changedAt: now })
        .where(and(eq(devices.no, deviceNo), isNull(devices.retiredAt))),
    )
    if (affectedRows === 1) await noteEvent(tx, deviceNo, 'unregistered')
  })
}
