import { setTimeout as wait } from 'node:timers/promises'
import { type DeviceEvent, meaningOfRegistration, type Permission, registrationRestSeconds } from '@zbell/core'
import { and, eq, type SQL, sql } from 'drizzle-orm'
import {
  build,
  commas,
  type Database,
  devices as devicesTable,
  deviceTokens,
  isDuplicate,
  now,
  type Scope,
  type Tx,
  uuidBuffer,
} from '../../database/index.ts'
import { noteEvent } from './device-events.ts'
import { ensureUser, pruneAnonymous } from './ensure-user.ts'
import { noteLeaving } from './former-devices.ts'
import { publishRegistered } from './publish-devices.ts'

export type DeviceAddress = {
  readonly token: string
  readonly tokenHash: Buffer
  readonly p256dh: Buffer | null
  readonly auth: Buffer | null
}

export type DeviceFacts = {
  readonly permission: Permission
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
  /** Of the secret that a new device gets. */
  readonly secretHash: Buffer
  /** Of the secret that the caller showed; null for none. */
  readonly shownHash: Buffer | null
  /** Whether it was proved now that it is its user’s. */
  readonly userProved?: boolean
}

/** What a registration came to. */
export type Registration = {
  /** The installation that the device has now: one made here for whoever named another device’s. */
  readonly installation: string | null
  /** Of the secret that it has now: the one that was shown, or the new one. */
  readonly secretHash: Buffer
}

/** How often a registration looks again when others registered the same meanwhile. */
const tries = 16
/** It waits longer each time, up to so long, and by chance: those that look at the same moments overtake each other again. */
const maxWaitMs = 50

/** Somebody registered the same in between; what was read counts no longer. */
export class Overtaken extends Error {
  override readonly name = 'Overtaken'
}

/** So many tokens that a device gave up are remembered. */
const tokensKept = 20

/** Somebody else registered this token or this installation a moment ago, and whoever asks did not show its secret. */
export class RegisteredJustNow extends Error {
  override readonly name = 'RegisteredJustNow'
}

/**
 * Registers an installation: one row, however often and from however many callers at once it comes. Nothing is locked
 * ahead: the unique token and installation decide between callers, and whoever lost looks again.
 *
 * Only its secret shows that somebody is a device that is there; it keeps it then, so that a call whose answer was lost
 * can be made again. Who knows a token or an installation alone gets a device of its own.
 * @throws {RegisteredJustNow}
 * @throws {Overtaken} when others kept registering the same
 */
export async function registerDevice(database: Database, scope: Scope, device: NewDevice): Promise<Registration> {
  for (let left = tries; ; left--) {
    try {
      return await database.transact((tx) => registerOnce(tx, scope, device))
    } catch (error) {
      if (!(error instanceof Overtaken || isDuplicate(error, 'one_token', 'one_installation'))) throw error
      if (left === 0) throw new Overtaken('others registered the same again and again')
      await wait(Math.random() * Math.min(2 ** (tries - left), maxWaitMs))
    }
  }
}

type Claimant = {
  readonly no: number
  readonly installation: string | null
  readonly tokenHash: Buffer | null
  readonly secretHash: Buffer
  readonly unclaimed: number
  readonly justNow: number
  readonly retired: number
  readonly permission: string
  readonly muted: number
  readonly userNo: number | null
  readonly user: string | null
}

async function registerOnce(tx: Tx, scope: Scope, device: NewDevice): Promise<Registration> {
  const { address, installation, shownHash } = device
  const found = await claimants(tx, scope, device)
  const proven = found.find((one) => shownHash !== null && one.secretHash.equals(shownHash))
  const byToken = found.find((one) => one.tokenHash?.equals(address.tokenHash))
  const byInstallation = installation === null ? undefined : found.find((one) => one.installation === installation)
  const meaning = meaningOfRegistration({
    proven: proven?.no,
    byInstallation: byInstallation?.no,
    byToken: byToken?.no,
    unclaimed: byToken?.unclaimed === 1,
    justNow: byToken?.justNow === 1 || byInstallation?.justNow === 1,
    tokenGivenUp: proven !== undefined && byToken === undefined && (await gaveUp(tx, proven.no, address.tokenHash)),
  })
  if (meaning.is === 'just-now') throw new RegisteredJustNow()
  const userNo = device.user === null ? null : await ensureUser(tx, scope, device.user)
  /** The device’s own as it is named now, unless another has that name. */
  const ownOf = (own: Claimant) =>
    installation === null || (byInstallation !== undefined && byInstallation !== own) ? own.installation : installation
  switch (meaning.is) {
    case 'new': {
      if (byToken) await vacate(tx, byToken)
      const free = byInstallation === undefined ? installation : device.id
      await insert(tx, scope, device, free, userNo)
      return { installation: free, secretHash: device.secretHash }
    }
    case 'restored-copy':
      await insert(tx, scope, device, device.id, userNo)
      return { installation: device.id, secretHash: device.secretHash }
    case 'claimed':
      await update(tx, device, byToken!, ownOf(byToken!), device.secretHash, userNo)
      return { installation: ownOf(byToken!), secretHash: device.secretHash }
    case 'same':
    case 'new-token':
    case 'token-moved': {
      const own = proven!
      if (meaning.is === 'token-moved') await vacate(tx, byToken!)
      if (meaning.is !== 'same') await giveUp(tx, own)
      const events = meaning.is === 'same' ? [] : (['new-token'] as const)
      await update(tx, device, own, ownOf(own), own.secretHash, userNo, ...events)
      return { installation: ownOf(own), secretHash: own.secretHash }
    }
    default:
      return meaning satisfies never
  }
}

/** The devices that have this token, this installation or the secret that was shown: none to three. */
const claimants = (tx: Tx, { app, environment }: Scope, device: NewDevice) => {
  const { platform, address, installation, shownHash } = device
  const columns = sql`v.no, v.installation, v.token_hash as tokenHash, v.secret_hash as secretHash,
    v.claimed_at is null as unclaimed, coalesce(v.claimed_at > utc_timestamp(3) - interval ${registrationRestSeconds} second, 0) as justNow,
    v.retired_at is not null as retired, v.permission, v.muted, v.user_no as userNo, u.name as user
    from devices v left join users u on u.no = v.user_no`
  const here = sql`v.app_no = ${app.no} and v.environment = ${environment}`
  return tx.rows<Claimant>(
    sql`select ${columns} where ${here} and v.platform = ${platform} and v.token_hash = ${address.tokenHash}
     union select ${columns} where ${here} and v.installation = ${installation}
     union select ${columns} where ${here} and v.platform = ${platform} and v.secret_hash = ${shownHash}`,
  )
}

export async function gaveUp(tx: Tx, deviceNo: number, tokenHash: Buffer): Promise<boolean> {
  const rows = await tx.rows(
    sql`select 1 from device_tokens where device_no = ${deviceNo} and token_hash = ${tokenHash}`,
  )
  return rows.length > 0
}

export async function giveUp(tx: Tx, { no, tokenHash }: Pick<Claimant, 'no' | 'tokenHash'>): Promise<void> {
  if (!tokenHash) return
  await tx.change(build.insert(deviceTokens).ignore().values({ deviceNo: no, tokenHash, untilAt: now }))
  await tx.change(
    sql`delete from device_tokens where device_no = ${no} and until_at <= ( select until_at from (select until_at
        from device_tokens where device_no = ${no} order by until_at desc limit 1 offset ${tokensKept}) as older)`,
  )
}

/**
 * The device whose token went elsewhere is kept for the record, and cannot be rung until it registers again. It did not
 * give the token up: with its secret it gets it back.
 */
export async function vacate(tx: Tx, from: Pick<Claimant, 'no' | 'tokenHash'>): Promise<void> {
  const { affectedRows } = await tx.change(
    build
      .update(devicesTable)
      .set({
        token: '',
        tokenHash: null,
        retiredAt: sql`coalesce(${devicesTable.retiredAt}, utc_timestamp(3))`,
        retiredReason: 'token-moved',
        changedAt: now,
      })
      .where(and(eq(devicesTable.no, from.no), sql`${devicesTable.tokenHash} = ${from.tokenHash}`)),
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
  await publishRegistered(tx, scope, [device])
}

/** The statement that stores new devices; it fails where one is there already. */
export function insertion(scope: Scope, all: readonly Insertion[]): SQL {
  const rows = all.map(({ device, installation, userNo }) => {
    const { id, platform, address, secretHash, permission, muted, allows, locale, timeZone, model } = device
    return sql`(${uuidBuffer(id)}, ${scope.app.no}, ${scope.environment}, ${platform}, ${installation},
        ${address.token}, ${address.tokenHash}, ${address.p256dh}, ${address.auth}, ${secretHash}, ${userNo},
        ${device.userProved ?? false}, ${permission}, ${muted}, ${allows}, ${locale}, ${timeZone},
        ${device.appVersion}, ${device.systemVersion}, ${model}, utc_timestamp(3), utc_timestamp(3),
        utc_timestamp(3), utc_timestamp(3))`
  })
  return sql`insert into devices (id, app_no, environment, platform, installation, token, token_hash, p256dh, auth, secret_hash,
      user_no, user_proved, permission, muted, allows, locale, time_zone, app_version, system_version, model,
      registered_at, seen_at, changed_at, claimed_at)
    values ${commas(rows)}`
}

async function update(
  tx: Tx,
  device: NewDevice,
  before: Claimant,
  installation: string | null,
  secretHash: Buffer,
  userNo: number | null,
  ...events: DeviceEvent[]
): Promise<void> {
  const { address } = device
  // Somebody without a name is this installation's own, and stays with it until somebody signs in.
  const anonymous = before.user === null ? before.userNo : null
  if (anonymous !== null && userNo !== null) await pruneAnonymous(tx, anonymous)
  // Fenced by what was read: a device that has changed meanwhile is looked at again.
  const { affectedRows } = await tx.change(
    sql`update devices set installation = ${installation}, token = ${address.token},
        token_hash = ${address.tokenHash}, p256dh = ${address.p256dh}, auth = ${address.auth},
        secret_hash = ${secretHash}, user_proved = ${device.userProved ?? false} or (user_proved
        and user_no <=> ${userNo}), user_no = ${userNo ?? anonymous}, permission = ${device.permission},
        muted = ${device.muted}, allows = ${device.allows}, locale = ${device.locale},
        time_zone = ${device.timeZone}, app_version = ${device.appVersion},
        system_version = ${device.systemVersion}, model = ${device.model}, seen_at = utc_timestamp(3),
        changed_at = utc_timestamp(3), claimed_at = utc_timestamp(3), retired_at = null, retired_reason = null
        where no = ${before.no} and token_hash <=> ${before.tokenHash} and installation <=> ${before.installation}
        and secret_hash = ${before.secretHash}`,
  )
  if (affectedRows !== 1) throw new Overtaken()
  for (const event of events) await noteEvent(tx, before.no, event)
  if (before.retired === 1) await noteEvent(tx, before.no, 'revived')
  await noteChanges(tx, { ...before, muted: before.muted === 1 }, device)
}

/** What a person would ask about later: the answer, the switch inside the app, and who was signed in. */
export async function noteChanges(
  tx: Tx,
  before: Pick<Claimant, 'no' | 'permission' | 'user'> & { readonly muted: boolean },
  after: {
    readonly permission?: string | undefined
    readonly muted?: boolean | undefined
    readonly user?: string | null | undefined
  },
): Promise<void> {
  if (after.permission !== undefined && after.permission !== before.permission)
    await noteEvent(tx, before.no, 'permission', after.permission)
  if (after.muted !== undefined && after.muted !== before.muted)
    await noteEvent(tx, before.no, after.muted ? 'muted' : 'unmuted')
  if (after.user === undefined || after.user === before.user) return
  if (before.user !== null) await noteLeaving(tx, before.no, before.user)
  if (after.user !== null) await noteEvent(tx, before.no, 'signed-in', after.user)
}
