import { fromBase64url, type VapidKey } from '@zbell/core'
import { calculateJwkThumbprint, importJWK, type JWK } from 'jose'

/** A credential as it lies sealed in the store. */
export type Credential =
  | { readonly kind: 'signing-key'; readonly jwk: JWK; readonly keyId: string; readonly issuer: string }
  | {
      readonly kind: 'service-key'
      readonly jwk: JWK
      readonly keyId: string
      readonly issuer: string
      readonly scope: string
    }
  | { readonly kind: 'vapid-key'; readonly jwk: JWK; readonly subject: string }

/** What a sealed credential belongs to: it opens nowhere else. */
export const credentialPlace = (appNo: number, environment: string, platform: string): string =>
  `credential:${appNo}:${environment}:${platform}`

/**
 * Checks that a JWK is the private key that its kind asks for.
 * @returns the RFC 7638 thumbprint, or a sentence that says what is wrong
 */
export async function inspectKey(kind: Credential['kind'], jwk: JWK): Promise<{ thumbprint: string } | string> {
  const wanted = kind === 'service-key' ? 'RSA' : 'EC'
  if (jwk.kty !== wanted) return `wants a key of type ${wanted}; this one has ${String(jwk.kty ?? 'none')}`
  if (typeof jwk.d !== 'string') return 'is a public key; the private one is needed'
  if (wanted === 'EC' && jwk.crv !== 'P-256') return `wants the curve P-256; this key has ${String(jwk.crv)}`
  try {
    await importJWK(jwk, wanted === 'RSA' ? 'RS256' : 'ES256')
    return { thumbprint: await calculateJwkThumbprint(jwk) }
  } catch {
    return 'cannot be read as a private key' // Whatever the library says may hold a piece of the key.
  }
}

/** The raw key of a VAPID credential. @throws {RangeError} when it was stored without a look by {@link inspectKey} */
export function vapidKeyOf(jwk: JWK): VapidKey {
  const [d, x, y] = [jwk.d, jwk.x, jwk.y].map((part) => fromBase64url(part ?? ''))
  if (d?.length !== 32 || x?.length !== 32 || y?.length !== 32) throw new RangeError('not a P-256 key')
  return { privateKey: d, publicKey: Uint8Array.from([4, ...x, ...y]) }
}
