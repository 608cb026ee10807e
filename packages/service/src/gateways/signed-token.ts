import { createHash } from 'node:crypto'
import { p256 } from '@noble/curves/nist.js'
import type { JWK } from 'jose'

/**
 * A JWT (RFC 7519) signed with ES256 by the deterministic way of signing (RFC 6979): whoever signs for the same key and the
 * same second makes the very same token. So however many processes and apps use an account's key, its gateway sees one token.
 * @param issuedAt seconds since 1970
 * @throws {RangeError} when the key is not a private one on P-256
 */
export function signedToken(
  { jwk, keyId, issuer }: { readonly jwk: JWK; readonly keyId: string; readonly issuer: string },
  issuedAt: number,
): string {
  const secret = Buffer.from(jwk.d ?? '', 'base64url')
  if (secret.length !== 32) throw new RangeError('not a private key on P-256')
  const part = (value: unknown) => Buffer.from(JSON.stringify(value)).toString('base64url')
  const signed = `${part({ alg: 'ES256', kid: keyId })}.${part({ iss: issuer, iat: issuedAt })}`
  const digest = createHash('sha256').update(signed).digest()
  // RFC 7518 §3.4: r and s, 32 bytes each; whichever of the two values of s the signing makes.
  const signature = p256.sign(digest, secret, { prehash: false, lowS: false })
  return `${signed}.${Buffer.from(signature).toString('base64url')}`
}

/** What stands for an account's key wherever all who use it have to agree. */
export const nameOfKey = ({ jwk, keyId, issuer }: { jwk: JWK; keyId: string; issuer: string }): Buffer =>
  createHash('sha256')
    .update(JSON.stringify([jwk.x, jwk.y, keyId, issuer]))
    .digest()
