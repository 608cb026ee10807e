import { setTimeout as wait } from 'node:timers/promises'
import { type DeviceEvent, meaningOfRegistration } from '@zbell/core'
import { type SQL, sql } from 'drizzle-orm'
import type { Scope } from '../apps/apps.ts'
import { uuidBuffer } from '../columns.ts'
import type { Database, Tx } from '../database.ts'
import { isDuplicate } from '../errors.ts'
import { commas } from '../fragments.ts'
import { ensureUser, forgetAnonymous } from '../people/ensure-user.ts'
import { tellRegistered } from '../webhooks/tell-devices.ts'
import { noteEvent } from './device-events.ts'

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
  /** Packed; null where the platform does not tell them apart. */
  readonly allows: number | null
  readonly locale: string | null
  readonly timeZone: string | null
  readonly appVersion: string | null
  readonly systemVersion: string | null
  readonly model: string | null
}

export type NewDevice = DeviceFacts & {
  readonly id: string
  readonly platform: string
  /** What names the installation; null for a caller that names none: then the token does. */
  readonly installation: string | null
  readonly address: DeviceAddress
  readonly secretHash: Buffer
}

/** How often a registration looks again when others registered the same meanwhile. */
const tries = 16
/** It waits longer each time, up to so long, and by chance: those that look at the same moments overtake each other again. */
const longestWaitMs = 50

/** Somebody registered the same in between; what was read counts no longer. */
export class Overtaken extends Error {
  override readonly name = 'Overtaken'
}

/**
 * Registers an installation: one row, however often and from however many callers at once it comes. Nothing is locked
 * ahead: the unique token and installation decide between callers, and whoever lost looks again.
 *
 * Whoever registers speaks for the device from then on; an earlier secret ends, and so does an earlier tie to a user,
 * since the phone may have another owner.
 * @returns the installation that the device has now: another one for a copy that was restored from a backup
 * @throws {Overtaken} when others kept registering the same
 */
export async function registerDevice(database: Database, scope: Scope, device: NewDevice): Promise<string | null> {
  for (let left = tries; ; left--) {
    try {
      return await database.transact((tx) => registerOnce(tx, scope, device))
    } catch (error) {
      if (!(error instanceof Overtaken || isDuplicate(error, 'one_token', 'one_installation'))) throw error
      if (left === 0) throw new Overtaken('others registered the same again and again')
      await wait(Math.random() * Math.min(2 ** (tries - left), longestWaitMs))
    }
  }
}

type Claimant = {
  readonly no: number
  readonly installation: string | null
  readonly tokenHash: Buffer | null
  readonly retired: number
  readonly permission: string
  readonly muted: number
  readonly userNo: number | null
  readonly user: string | null
}

async function registerOnce(tx: Tx, scope: Scope, device: NewDevice): Promise<string | null> {
  const { address, installation } = device
  const found = await claimants(tx, scope, device)
  const byToken = found.find((one) => one.tokenHash?.equals(address.tokenHash))
  const byInstallation = installation === null ? undefined : found.find((one) => one.installation === installation)
  const meaning = meaningOfRegistration({
    byInstallation: byInstallation?.no,
    byToken: byToken?.no,
    tokenGivenUp:
      byInstallation !== undefined && byToken === undefined && (await gaveUp(tx, byInstallation.no, address.tokenHash)),
  })
  const userNo = device.user === null ? null : await ensureUser(tx, scope, device.user)
  switch (meaning.is) {
    case 'new':
      await insert(tx, scope, device, installation, userNo)
      return installation
    case 'restored-copy': {
      const another = device.id
      await insert(tx, scope, device, another, userNo)
      return another
    }
    case 'same':
      await update(tx, device, byInstallation!, installation, userNo)
      return installation
    case 'reinstalled': {
      // A caller that names no installation says nothing of one, so the one that is known stays.
      const kept = installation ?? byToken!.installation
      const anew = byToken!.installation !== null && kept !== byToken!.installation
      await update(tx, device, byToken!, kept, userNo, ...(anew ? (['reinstalled'] as const) : []))
      return kept
    }
    case 'new-token':
      await giveUp(tx, byInstallation!)
      await update(tx, device, byInstallation!, installation, userNo, 'new-token')
      return installation
    case 'token-moved':
      await giveUp(tx, byInstallation!)
      await vacate(tx, byToken!)
      await update(tx, device, byInstallation!, installation, userNo, 'new-token')
      return installation
    default:
      return meaning satisfies never
  }
}

/** The devices that have this token or this installation: none, one, or two. */
const claimants = (tx: Tx, { app, environment }: Scope, { platform, address, installation }: NewDevice) => {
  const columns = sql`v.no, v.installation, v.token_hash as tokenHash, v.retired_at is not null as retired, v.permission,
    v.muted, v.user_no as userNo, u.name as user from devices v left join users u on u.no = v.user_no`
  return tx.rows<Claimant>(
    sql`select ${columns} where v.app_no = ${app.no} and v.environment = ${environment} and v.platform = ${platform} and v.token_hash = ${address.tokenHash}
     union select ${columns} where v.app_no = ${app.no} and v.environment = ${environment} and v.installation = ${installation}`,
  )
}

async function gaveUp(tx: Tx, deviceNo: number, tokenHash: Buffer): Promise<boolean> {
  const rows = await tx.rows(
    sql`select 1 from device_tokens where device_no = ${deviceNo} and token_hash = ${tokenHash}`,
  )
  return rows.length > 0
}

async function giveUp(tx: Tx, { no, tokenHash }: Claimant): Promise<void> {
  if (tokenHash)
    await tx.change(
      sql`insert ignore into device_tokens (device_no, token_hash, until_at) values (${no}, ${tokenHash}, utc_timestamp(3))`,
    )
}

/** The device whose token went elsewhere is kept for the record, and cannot be rung until it registers again. */
async function vacate(tx: Tx, from: Claimant): Promise<void> {
  await giveUp(tx, from)
  const { affectedRows } = await tx.change(
    sql`update devices set token = '', token_hash = null, retired_at = coalesce(retired_at, utc_timestamp(3)),
       retired_reason = 'token-moved', changed_at = utc_timestamp(3) where no = ${from.no} and token_hash = ${from.tokenHash}`,
  )
  if (affectedRows !== 1) throw new Overtaken()
  await noteEvent(tx, from.no, 'token-moved')
}

export type Insertion = {
  readonly device: NewDevice
  readonly installation: string | null
  readonly userNo: number | null
}

async function insert(
  tx: Tx,
  scope: Scope,
  device: NewDevice,
  installation: string | null,
  userNo: number | null,
): Promise<void> {
  await tx.change(insertion(scope, [{ device, installation, userNo }]))
  await tellRegistered(tx, scope, [device])
}

/** The statement that stores new devices; it fails where one is there already. */
export function insertion(scope: Scope, all: readonly Insertion[]): SQL {
  const rows = all.map(({ device, installation, userNo }) => {
    const { id, platform, address, secretHash, permission, muted, allows, locale, timeZone, model } = device
    return sql`(${uuidBuffer(id)}, ${scope.app.no}, ${scope.environment}, ${platform}, ${installation}, ${address.token},
      ${address.tokenHash}, ${address.p256dh}, ${address.auth}, ${secretHash}, ${userNo}, ${permission}, ${muted}, ${allows},
      ${locale}, ${timeZone}, ${device.appVersion}, ${device.systemVersion}, ${model},
      utc_timestamp(3), utc_timestamp(3), utc_timestamp(3))`
  })
  return sql`insert into devices (id, app_no, environment, platform, installation, token, token_hash, p256dh, auth, secret_hash,
      user_no, permission, muted, allows, locale, time_zone, app_version, system_version, model,
      registered_at, seen_at, changed_at)
    values ${commas(rows)}`
}

async function update(
  tx: Tx,
  device: NewDevice,
  before: Claimant,
  installation: string | null,
  userNo: number | null,
  ...events: DeviceEvent[]
): Promise<void> {
  const { address } = device
  // Somebody without a name is this installation's own, and stays with it until somebody signs in.
  const anonymous = before.user === null ? before.userNo : null
  if (anonymous !== null && userNo !== null) await forgetAnonymous(tx, anonymous)
  // Fenced by what was read: a device that has changed meanwhile is looked at again.
  const { affectedRows } = await tx.change(
    sql`update devices set installation = ${installation}, token = ${address.token}, token_hash = ${address.tokenHash}, p256dh = ${address.p256dh}, auth = ${address.auth}, secret_hash = ${device.secretHash}, user_no = ${userNo ?? anonymous},
       permission = ${device.permission}, muted = ${device.muted}, allows = ${device.allows}, locale = ${device.locale}, time_zone = ${device.timeZone}, app_version = ${device.appVersion}, system_version = ${device.systemVersion}, model = ${device.model},
       seen_at = utc_timestamp(3), changed_at = utc_timestamp(3), retired_at = null, retired_reason = null
     where no = ${before.no} and token_hash <=> ${before.tokenHash} and installation <=> ${before.installation}`,
  )
  if (affectedRows !== 1) throw new Overtaken()
  for (const event of events) await noteEvent(tx, before.no, event)
  if (before.retired === 1) await noteEvent(tx, before.no, 'revived')
  await noteChanges(tx, before, device)
}

/** What a person would ask about later: the answer, the switch inside the app, and who was signed in. */
export async function noteChanges(
  tx: Tx,
  before: Pick<Claimant, 'no' | 'permission' | 'muted' | 'user'>,
  after: {
    readonly permission?: string | undefined
    readonly muted?: boolean | undefined
    readonly user?: string | null | undefined
  },
): Promise<void> {
  if (after.permission !== undefined && after.permission !== before.permission)
    await noteEvent(tx, before.no, 'permission', after.permission)
  if (after.muted !== undefined && after.muted !== (before.muted === 1))
    await noteEvent(tx, before.no, after.muted ? 'muted' : 'unmuted')
  if (after.user !== undefined && after.user !== before.user)
    await noteEvent(tx, before.no, after.user === null ? 'signed-out' : 'signed-in', after.user ?? before.user)
}
