import { utf8 } from '../webpush/bytes.ts'
import type { CryptoPort } from '../webpush/crypto-port.ts'
import { areSame, bytesOfBase64, bytesOfHex } from './bytes.ts'
import { verifyMessage } from './standard.ts'

/** Whether a CloudEvent’s source is a name that only this service gives (RFC 8141, in any letters). */
export const isOurs = (source: string): boolean => /^urn:zbell:/i.test(source)

/** How somebody who can only post their own JSON shows who they are. */
export type Verification =
  /** The secret itself stands in a header. */
  | { readonly by: 'secret'; readonly header: string }
  /** HMAC-SHA256 over the body stands in a header, behind a prefix if they put one there. */
  | {
      readonly by: 'hmac-sha256'
      readonly header: string
      readonly prefix?: string | undefined
      readonly encoding: 'hex' | 'base64'
    }
  /** As the Standard Webhooks specification signs. */
  | { readonly by: 'standard-webhooks' }

/**
 * @param headers by their names in small letters
 * @param secrets any of them will do: while one is replaced there are two
 * @returns why the message is not to be believed; `undefined` for one that is
 */
export function verifyIncoming(
  verification: Verification,
  headers: Readonly<Record<string, string | undefined>>,
  body: Uint8Array,
  secrets: readonly string[],
  nowMs: number,
  crypto: Pick<CryptoPort, 'hmacSha256'>,
): string | undefined {
  if (verification.by === 'standard-webhooks') {
    const verdict = verifyMessage(headers, body, secrets, nowMs, crypto)
    return verdict.is === 'good' ? undefined : verdict.says
  }
  const header = verification.header.toLowerCase()
  const given = headers[header]
  if (given === undefined || given === '') return `lacks the header ${header}`
  if (verification.by === 'secret') {
    // Compared are digests of one length, so that the time taken tells nothing of a secret’s length.
    const digest = (text: string) => crypto.hmacSha256(utf8(header), utf8(text))
    return secrets.some((secret) => areSame(digest(secret), digest(given)))
      ? undefined
      : `has another secret in the header ${header}`
  }
  const { prefix = '', encoding } = verification
  if (!given.startsWith(prefix)) return `has no ${prefix} in front of what stands in the header ${header}`
  const signature = (encoding === 'hex' ? bytesOfHex : bytesOfBase64)(given.slice(prefix.length))
  if (!signature) return `has no ${encoding} in the header ${header}`
  return secrets.some((secret) => areSame(crypto.hmacSha256(utf8(secret), body), signature))
    ? undefined
    : `has a signature in the header ${header} that does not fit its body`
}
