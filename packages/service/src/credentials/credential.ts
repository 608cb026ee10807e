import { fromBase64url, type VapidKey } from '@zbell/core'
import type { JWK } from 'jose'

/** A credential as it lies sealed in the store. Keys and certificates of a client certificate are PEM. */
export type Credential =
  | { readonly kind: 'client-certificate'; readonly key: string; readonly certificates: readonly string[] }
  | { readonly kind: 'signing-key'; readonly jwk: JWK; readonly keyId: string; readonly issuer: string }
  | {
      readonly kind: 'service-key'
      readonly jwk: JWK
      readonly keyId: string
      readonly issuer: string
      /** The profile's when left out. */
      readonly scope?: string
      readonly tokenAddress?: string
    }
  | { readonly kind: 'vapid-key'; readonly jwk: JWK; readonly subject: string }

/** What a sealed credential belongs to: it opens nowhere else. */
export const credentialPlace = (appNo: number, environment: string, platform: string): string =>
  `credential:${appNo}:${environment}:${platform}`

/** The raw key of a VAPID credential. @throws {RangeError} when it is not one on P-256 */
export function vapidKeyOf(jwk: JWK): VapidKey {
  const [d, x, y] = [jwk.d, jwk.x, jwk.y].map((part) => fromBase64url(part ?? ''))
  if (d?.length !== 32 || x?.length !== 32 || y?.length !== 32) throw new RangeError('not a P-256 key')
  return { privateKey: d, publicKey: Uint8Array.from([4, ...x, ...y]) }
}
