import { toBase64url, utf8 } from './bytes.ts'
import type { CryptoPort } from './crypto-port.ts'

export type VapidKey = { readonly privateKey: Uint8Array; readonly publicKey: Uint8Array }

/** RFC 8292 §2: at most 24 hours ahead. Half of it leaves room for clocks that differ. */
export const vapidLifetimeSeconds = 43_200

/**
 * The Authorization value of RFC 8292 §3 for one push service.
 * @param audience the push service's origin, such as `https://push.example`
 * @param subject how to reach the sender: a `mailto:` or `https:` address
 * @param expiresSeconds seconds since 1970
 */
export function vapidAuthorization(
  audience: string,
  subject: string,
  expiresSeconds: number,
  key: VapidKey,
  crypto: CryptoPort,
): string {
  const head = toBase64url(utf8(JSON.stringify({ typ: 'JWT', alg: 'ES256' })))
  const claims = toBase64url(utf8(JSON.stringify({ aud: audience, exp: expiresSeconds, sub: subject })))
  const signed = `${head}.${claims}`
  const signature = crypto.es256Sign(key.privateKey, key.publicKey, utf8(signed))
  return `vapid t=${signed}.${toBase64url(signature)}, k=${toBase64url(key.publicKey)}`
}

/** A key as the browser's `applicationServerKey` wants it. */
export const applicationServerKey = (key: VapidKey): string => toBase64url(key.publicKey)
