import { concatBytes, utf8 } from '../webpush/bytes.ts'
import type { CryptoPort } from '../webpush/crypto-port.ts'
import { areSame, base64OfBytes, bytesOfBase64 } from './bytes.ts'

/**
 * Signatures as the Standard Webhooks specification has them: HMAC-SHA256 over the identifier, the moment and the body, so
 * that none of them can be another’s, and what was sent once cannot be sent again later.
 */

export const signatureHeaders = Object.freeze({
  id: 'webhook-id',
  timestamp: 'webhook-timestamp',
  signature: 'webhook-signature',
})

/** A message may be so much older or newer than the clock of whoever verifies it. */
export const toleranceSeconds = 300

const secretPrefix = 'whsec_'
const secretBytes = { least: 24, most: 64 } as const
/** More signatures than anybody has secrets are not looked through. */
const maxSignatures = 10

type Hmac = Pick<CryptoPort, 'hmacSha256'>

/** What is signed. */
export type SignedMessage = {
  /** The same for each attempt of one message; without full stops, which set the parts apart. */
  readonly id: string
  /** Seconds since the epoch, of this attempt. */
  readonly timestamp: number
  readonly body: Uint8Array
}

/** A fresh secret, of 32 bytes. */
export const newSigningSecret = (crypto: Pick<CryptoPort, 'randomBytes'>): string =>
  `${secretPrefix}${base64OfBytes(crypto.randomBytes(32))}`

/** @returns the bytes of a secret, with or without its prefix; `undefined` when it is not base64 of 24 to 64 bytes */
export function secretOf(text: string): Uint8Array | undefined {
  const bytes = bytesOfBase64(text.startsWith(secretPrefix) ? text.slice(secretPrefix.length) : text)
  return bytes && bytes.length >= secretBytes.least && bytes.length <= secretBytes.most ? bytes : undefined
}

/**
 * @param secrets of one or more; while a secret is replaced, both sign
 * @returns the three headers
 * @throws {RangeError} for an identifier with a full stop, or a secret that is none
 */
export function signMessage(message: SignedMessage, secrets: readonly string[], crypto: Hmac): Record<string, string> {
  const { id, timestamp } = message
  if (id === '' || id.includes('.')) throw new RangeError('an identifier has one character or more, and no full stop')
  const signatures = secrets.map((text) => {
    const secret = secretOf(text)
    if (!secret) throw new RangeError('a signing secret is base64 of 24 to 64 bytes')
    return `v1,${base64OfBytes(crypto.hmacSha256(secret, signedBytes(message)))}`
  })
  return {
    [signatureHeaders.id]: id,
    [signatureHeaders.timestamp]: String(timestamp),
    [signatureHeaders.signature]: signatures.join(' '),
  }
}

/**
 * @param headers by their names in small letters
 * @param nowMs the clock of whoever verifies, in ms since the epoch
 * @returns the identifier, or why the message is not to be believed
 */
export function verifyMessage(
  headers: Readonly<Record<string, string | undefined>>,
  body: Uint8Array,
  secrets: readonly string[],
  nowMs: number,
  crypto: Hmac,
): { readonly is: 'good'; readonly id: string } | { readonly is: 'refused'; readonly says: string } {
  const refused = (says: string) => ({ is: 'refused' as const, says })
  const id = headers[signatureHeaders.id]
  const at = headers[signatureHeaders.timestamp]
  const given = headers[signatureHeaders.signature]
  if (!id || !at || !given) return refused(`lacks one of the headers ${Object.values(signatureHeaders).join(', ')}`)
  if (id.includes('.')) return refused(`has a full stop in ${signatureHeaders.id}`)
  if (!/^\d{1,12}$/.test(at)) return refused(`has a ${signatureHeaders.timestamp} that is no number of seconds`)
  const timestamp = Number(at)
  const lateBy = nowMs / 1_000 - timestamp
  if (Math.abs(lateBy) > toleranceSeconds)
    return refused(
      `was signed ${Math.round(Math.abs(lateBy))} seconds ${lateBy > 0 ? 'ago' : 'from now'}; ${toleranceSeconds} are allowed`,
    )
  // Signed is what the header says, digit by digit.
  const message = concatBytes(utf8(`${id}.${at}.`), body)
  const expected = secrets.flatMap((text) => {
    const secret = secretOf(text)
    return secret ? [crypto.hmacSha256(secret, message)] : []
  })
  const isGood = given
    .split(' ')
    .slice(0, maxSignatures)
    .some((one) => {
      const signature = one.startsWith('v1,') ? bytesOfBase64(one.slice(3)) : undefined
      return signature !== undefined && expected.some((own) => areSame(own, signature))
    })
  return isGood ? { is: 'good', id } : refused('has no signature that fits')
}

const signedBytes = ({ id, timestamp, body }: SignedMessage): Uint8Array =>
  concatBytes(utf8(`${id}.${timestamp}.`), body)
