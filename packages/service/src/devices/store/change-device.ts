import { meaningOfRegistration } from '@zbell/core'
import { and, eq, isNull, sql } from 'drizzle-orm'
import type { MySqlUpdateSetSource } from 'drizzle-orm/mysql-core'
import {
  build,
  condition,
  type Database,
  devices,
  now,
  type Scope,
  select,
  type Tx,
  users,
} from '../../database/index.ts'
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

type Before = {
  readonly no: number
  readonly platform: string
  readonly tokenHash: Buffer | null
  readonly permission: string
  readonly muted: boolean
  readonly userNo: number | null
  readonly user: string | null
  readonly retired: boolean
}

/** Writes what a device says of itself, and that it was seen. @throws {TokenNotOwn} */
export async function changeDevice(
  database: Database,
  scope: Scope,
  deviceNo: number,
  changes: DeviceChanges,
): Promise<void> {
  await database.transact(async (tx) => {
    const [before] = await select(
      tx,
      {
        no: devices.no,
        platform: devices.platform,
        tokenHash: devices.tokenHash,
        permission: devices.permission,
        muted: devices.muted,
        userNo: devices.userNo,
        user: users.name,
        retired: condition(sql`${devices.retiredAt} is not null`),
      },
      sql`from ${devices} left join ${users} on ${users.no} = ${devices.userNo}
          where ${devices.no} = ${deviceNo} for update`,
    )
    if (!before) return
    const { user, userProved, merge, address, ...facts } = changes
    const set: MySqlUpdateSetSource<typeof devices> = { ...facts, seenAt: now, changedAt: now }
    if (user !== undefined) {
      const userNo = user === null ? null : await ensureUser(tx, scope, user)
      if (user !== before.user) set.userProved = userProved ?? false
      // Saying the same name again must not part a device from an anonymous person that it has.
      if (user !== before.user || userNo !== null) set.userNo = userNo
      if (userNo !== null && before.userNo !== null && before.user === null) {
        if (merge) await mergeAnonymous(tx, before.userNo, userNo)
        else await pruneAnonymous(tx, before.userNo)
      }
    }
    if (address) {
      await takeToken(tx, scope, before, address)
      Object.assign(set, address, { retiredAt: null, retiredReason: null })
      if (before.retired) await noteEvent(tx, before.no, 'revived')
    }
    await tx.change(build.update(devices).set(set).where(eq(devices.no, deviceNo)))
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
