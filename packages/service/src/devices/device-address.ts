import { createHash } from 'node:crypto'
import { fromBase64url, isHandsetAddress } from '@zbell/core'
import { invalid, isP256Point } from '../base/index.ts'
import type { Scope } from '../database/index.ts'
import { type AddressGuard, AddressNotAllowed } from '../net/index.ts'
import type { DeviceAddress } from './store/register-device.ts'

/** Where a device is reached: a gateway's token, or the browser's own PushSubscription.toJSON(). */
export type GivenAddress = {
  readonly token?: string | undefined
  readonly subscription?:
    | { readonly endpoint: string; readonly keys: { readonly p256dh: string; readonly auth: string } }
    | undefined
}

/** Who says where a device may be. */
export type AddressRules = {
  /** Where browsers' push services may be. */
  readonly guard: AddressGuard
  /** Whether an endpoint is a virtual handset's that runs beside this service. */
  readonly isRehearsal: (endpoint: URL) => Promise<boolean>
}

/** The address of a device, when it is one that may be called. @throws {Problem} `invalid-request` */
export async function addressOf(
  { guard, isRehearsal }: AddressRules,
  { environment }: Scope,
  given: GivenAddress,
): Promise<DeviceAddress> {
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
    if (error instanceof AddressNotAllowed)
      throw invalid(pointer, `leads where the service may not call: ${error.message}`)
    throw error
  }
  return address
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
