import { createHash, randomBytes } from 'node:crypto'
import { applicationServerKey, fromBase64url, isHandsetAddress, isUuid, uuidV7 } from '@zbell/core'
import { type AddressGuard, AddressNotAllowed } from '../../gateways/address-guard.ts'
import { type Credential, credentialPlace, vapidKeyOf } from '../../gateways/credential.ts'
import { isP256Point } from '../../gateways/node-crypto.ts'
import type { Scope } from '../../store/apps/apps.ts'
import { credentialInUse } from '../../store/apps/credentials.ts'
import type { Database } from '../../store/database.ts'
import { changeDevice } from '../../store/devices/change-device.ts'
import { findDevice, findDeviceBySecret, listDevices } from '../../store/devices/read-devices.ts'
import { type DeviceAddress, registerDevice } from '../../store/devices/register-device.ts'
import { NameTaken } from '../../store/errors.ts'
import { hashSecret, newSecret } from '../../vault/secrets.ts'
import type { Vault } from '../../vault/vault.ts'
import { invalid, Problem } from '../problem.ts'
import type { RateLimits } from '../rate-limits.ts'
import type { OperationRouter } from '../serve-operation.ts'
import { deviceView, pageView } from '../views.ts'

type Given = {
  database: Database
  vault: Vault
  limits: RateLimits
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

export function serveDevices(
  on: OperationRouter,
  { database, vault, limits, guard, isRehearsal, onChange }: Given,
): void {
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
    return pageView(rows, query.limit, (row) => row.no, deviceView)
  })

  on.serve('readDevice', async ({ caller, params }) => {
    const found = isUuid(params.id) ? await findDevice(database, caller.scope, params.id) : undefined
    if (!found) throw new Problem('unknown-device')
    return deviceView(found)
  })

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
      const { platform, ...facts } = body
      const address = await addressOf(
        scope,
        body.platform === 'web' ? { subscription: body.subscription } : { token: body.token },
      )
      const secret = newSecret('device')
      const id = uuidV7(Date.now(), randomBytes(10))
      await registerDevice(database, scope, { ...facts, id, platform, address, secretHash: hashSecret(secret) })
      onChange()
      const device = await findDeviceBySecret(database, hashSecret(secret))
      // Another registration of the same token can have come in between; then that one's secret counts, not this one's.
      if (!device)
        throw new Problem('unknown-key', 'The same token was registered again meanwhile; that registration counts.')
      return { device: deviceView(device), secret }
    },
    limits.registrations,
  )

  on.serve('readOwnDevice', async ({ caller }) => deviceView(caller.device), limits.deviceCalls)

  on.serve(
    'changeOwnDevice',
    async ({ caller: { scope, device }, body }) => {
      const { token, subscription, ...facts } = body
      const given = device.platform === 'web' ? { subscription } : { token }
      if (device.platform === 'web' && token !== undefined)
        throw invalid('/token', 'does not belong to a web device; send subscription')
      if (device.platform !== 'web' && subscription !== undefined)
        throw invalid('/subscription', `does not belong to an ${device.platform} device; send token`)
      const address =
        given.token === undefined && given.subscription === undefined ? undefined : await addressOf(scope, given)
      try {
        await changeDevice(database, scope, device.no, { ...facts, address })
      } catch (error) {
        if (error instanceof NameTaken) throw invalid('/token', 'belongs to another device; register again')
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
