import { createHash, randomBytes } from 'node:crypto'
import {
  applicationServerKey,
  deviceEvents,
  fromBase64url,
  isHandsetAddress,
  isUuid,
  packAllowed,
  reasons,
  uuidV7,
} from '@zbell/core'
import { type AddressGuard, AddressNotAllowed } from '../../gateways/address-guard.ts'
import { type Credential, credentialPlace, vapidKeyOf } from '../../gateways/credential.ts'
import { isP256Point } from '../../gateways/node-crypto.ts'
import { ProofRefused, type Proofs } from '../../people/proofs.ts'
import { invalid, Problem } from '../../problems/problem.ts'
import type { Scope } from '../../store/apps/apps.ts'
import { credentialInUse } from '../../store/apps/credentials.ts'
import { Batcher } from '../../store/batcher.ts'
import type { Database } from '../../store/database.ts'
import { recentDeliveries } from '../../store/deliveries/recent-deliveries.ts'
import { changeDevice, TokenNotOwn, unregisterDevice } from '../../store/devices/change-device.ts'
import { listEvents } from '../../store/devices/device-events.ts'
import { findDevice, listDevices } from '../../store/devices/read-devices.ts'
import { type DeviceAddress, Overtaken } from '../../store/devices/register-device.ts'
import { type Registered, type Registering, registerDevices } from '../../store/devices/register-devices.ts'
import { placeOf } from '../../store/in-order.ts'
import { topicsOf } from '../../store/people/topics.ts'
import { hashSecret, newSecret } from '../../vault/secrets.ts'
import type { Vault } from '../../vault/vault.ts'
import type { RateLimits } from '../rate-limits.ts'
import type { OperationRouter } from '../serve-operation.ts'
import { deviceView, pageView } from '../views.ts'

type Given = {
  database: Database
  vault: Vault
  limits: RateLimits
  proofs: Proofs
  /** Where browsers' push services may be. */
  guard: AddressGuard
  /** Whether an endpoint is a virtual handset's that runs beside this service. */
  isRehearsal: (endpoint: URL) => Promise<boolean>
  onChange: () => void
}

/** Where a device is reached: a gateway's token, or the browser's own PushSubscription.toJSON(). */
type GivenAddress = {
  readonly token?: string | undefined
  readonly subscription?:
    | { readonly endpoint: string; readonly keys: { readonly p256dh: string; readonly auth: string } }
    | undefined
}

/** The most registrations that go into one transaction. */
const registeredTogether = 200

/** How much a device's record shows, and among how many of the app's notifications it looks for its own. */
const recordShows = 100
const recordLooksAt = 300

export function serveDevices(
  on: OperationRouter,
  { database, vault, limits, guard, isRehearsal, proofs, onChange }: Given,
): void {
  /** Signing out needs none. */
  const needProof = async (scope: Scope, user: string | null | undefined, proof: string | undefined): Promise<void> => {
    if (user === null || user === undefined) return
    try {
      await proofs.check(scope, user, proof)
    } catch (error) {
      if (error instanceof ProofRefused) throw new Problem('proof-refused', error.message)
      throw error
    }
  }

  // A wave of installations that register at once goes in together.
  const registrar = new Batcher<Registering, PromiseSettledResult<Registered>>(
    (all) => registerDevices(database, all),
    registeredTogether,
  )

  /** The address of a device, when it is one that may be called. */
  const addressOf = async ({ environment }: Scope, given: GivenAddress): Promise<DeviceAddress> => {
    const { token, subscription } = given
    const address = readAddress(given)
    const pointer = subscription === undefined ? '/token' : '/subscription/endpoint'
    if (isHandsetAddress(address.token) && environment !== 'development')
      throw invalid(pointer, `is a virtual handset’s, and those rehearse in development only`)
    if (subscription === undefined || token !== undefined) return address
    const endpoint = new URL(subscription.endpoint)
    try {
      if (!(await isRehearsal(endpoint))) guard.check(endpoint)
    } catch (error) {
      if (error instanceof AddressNotAllowed) throw invalid(pointer, 'points into a private network')
      throw error
    }
    return address
  }

  on.serve('listDevices', async ({ caller, query }) => {
    const rows = await listDevices(database, caller.scope, { ...query, limit: query.limit + 1 })
    return pageView(rows, query.limit, placeOf, deviceView)
  })

  on.serve('readDevice', async ({ caller, params }) => {
    const found = isUuid(params.id) ? await findDevice(database, caller.scope, params.id) : undefined
    if (!found) throw new Problem('unknown-device')
    return deviceView(found)
  })

  on.serve('readDeviceRecord', async ({ caller: { scope }, params }) => {
    const found = isUuid(params.id) ? await findDevice(database, scope, params.id) : undefined
    if (!found) throw new Problem('unknown-device')
    return {
      events: (await listEvents(database, found.no, recordShows)).map(({ event, at, detail }) => ({
        event,
        says: deviceEvents[event].says,
        detail,
        at: at.toISOString(),
      })),
      topics: (await topicsOf(database, found)).map(({ name, joinedAt }) => ({
        topic: name,
        joinedAt: joinedAt.toISOString(),
      })),
      deliveries: (await recentDeliveries(database, scope, found.no, recordLooksAt)).map(({ reason, at, ...one }) => ({
        ...one,
        says: reason && reasons[reason].says,
        at: at.toISOString(),
      })),
    }
  })

  on.serve(
    'unregisterOwnDevice',
    async ({ caller: { device } }) => {
      await unregisterDevice(database, device.no)
      onChange()
      return undefined
    },
    limits.deviceCalls,
  )

  on.serve(
    'readInstalledApp',
    async ({ caller: { scope } }) => {
      const row = await credentialInUse(database, scope.app.no, scope.environment, 'web')
      const credential =
        row &&
        (JSON.parse(
          vault.open(row.sealed, credentialPlace(scope.app.no, scope.environment, 'web')).toString(),
        ) as Credential)
      return {
        app: scope.app.slug,
        name: scope.app.name,
        environment: scope.environment,
        applicationServerKey:
          credential?.kind === 'vapid-key' ? applicationServerKey(vapidKeyOf(credential.jwk)) : null,
      }
    },
    limits.deviceCalls,
  )

  on.serve(
    'registerDevice',
    async ({ caller: { scope }, body }) => {
      const { platform, installation = null, proof, allows, ...facts } = body
      await needProof(scope, facts.user, proof)
      const address = await addressOf(
        scope,
        body.platform === 'web' ? { subscription: body.subscription } : { token: body.token },
      )
      const secret = newSecret('device')
      const id = uuidV7(Date.now(), randomBytes(10))
      const settled = await registrar.add({
        scope,
        device: {
          ...facts,
          allows: allows && packAllowed(allows),
          id,
          platform,
          installation,
          address,
          secretHash: hashSecret(secret),
        },
      })
      if (settled.status === 'rejected')
        throw settled.reason instanceof Overtaken ? new Problem('register-again') : settled.reason
      const { stored, installation: kept } = settled.value
      onChange()
      // Another registration of the same token can have come in between; then that one's secret counts, not this one's.
      if (!stored)
        throw new Problem('register-again', 'The same token was registered by another call meanwhile, and that counts.')
      return { device: deviceView(stored), secret, installation: kept }
    },
    limits.registrations,
  )

  on.serve('readOwnDevice', async ({ caller }) => deviceView(caller.device), limits.deviceCalls)

  on.serve(
    'changeOwnDevice',
    async ({ caller: { scope, device }, body }) => {
      const { token, subscription, proof, allows, ...facts } = body
      if (facts.user !== device.user) await needProof(scope, facts.user, proof)
      const given = device.platform === 'web' ? { subscription } : { token }
      if (device.platform === 'web' && token !== undefined)
        throw invalid('/token', 'does not belong to a web device; send subscription')
      if (device.platform !== 'web' && subscription !== undefined)
        throw invalid('/subscription', `does not belong to an ${device.platform} device; send token`)
      const address =
        given.token === undefined && given.subscription === undefined ? undefined : await addressOf(scope, given)
      try {
        await changeDevice(database, scope, device.no, {
          ...facts,
          allows: allows && packAllowed(allows),
          address,
        })
      } catch (error) {
        if (error instanceof TokenNotOwn) throw new Problem('register-again')
        throw error
      }
      onChange()
      const changed = await findDevice(database, scope, device.id)
      if (!changed) throw new Problem('unknown-device')
      return deviceView(changed)
    },
    limits.deviceCalls,
  )
}

function readAddress({ token, subscription }: GivenAddress): DeviceAddress {
  if (subscription === undefined) {
    return { token: token ?? '', tokenHash: sha256(token ?? ''), p256dh: null, auth: null }
  }
  const [p256dh, auth] = [subscription.keys.p256dh, subscription.keys.auth].map((text) =>
    fromBase64url(text.replace(/=+$/, '')),
  )
  if (!p256dh || !auth || !isP256Point(p256dh))
    throw invalid('/subscription/keys/p256dh', 'is not a point on the curve P-256')
  return {
    token: subscription.endpoint,
    tokenHash: sha256(subscription.endpoint),
    p256dh: Buffer.from(p256dh),
    auth: Buffer.from(auth),
  }
}

const sha256 = (text: string): Buffer => createHash('sha256').update(text).digest()
