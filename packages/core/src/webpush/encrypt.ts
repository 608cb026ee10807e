import { concatBytes, utf8 } from './bytes.ts'
import type { CryptoPort } from './crypto-port.ts'

/** The keys of a push subscription (W3C Push API, PushSubscription.getKey). */
export type SubscriptionKeys = {
  /** The browser's P-256 point, uncompressed, 65 bytes. */
  readonly p256dh: Uint8Array
  /** The shared authentication secret, 16 bytes. */
  readonly auth: Uint8Array
}

/** RFC 8291 §4: a push service has to take 4,096 bytes, of which header, delimiter and tag need 103. */
export const maxPlaintextBytes = 3_993
const recordSize = 4_096
const headerBytes = 86
const tagBytes = 16

/** The chance and the sender's key of one message; given apart so that the standard's own example can be checked. */
export type MessageSeed = {
  readonly salt: Uint8Array
  readonly sender: { readonly privateKey: Uint8Array; readonly publicKey: Uint8Array }
}

/**
 * Encrypts one web-push message (RFC 8291 §3, one record of RFC 8188 `aes128gcm`).
 * @param plaintext at most 3,993 bytes
 * @returns the request body: 86 bytes of header, then the record
 * @throws {RangeError} when the plaintext or a key has the wrong length; what the port throws when `p256dh` is not a
 *   point on P-256
 */
export function encryptMessage(
  plaintext: Uint8Array,
  keys: SubscriptionKeys,
  crypto: CryptoPort,
  seed: MessageSeed = { salt: crypto.randomBytes(16), sender: crypto.p256KeyPair() },
): Uint8Array<ArrayBuffer> {
  if (plaintext.length > maxPlaintextBytes) {
    throw new RangeError(`a push message holds at most ${maxPlaintextBytes} bytes; this one has ${plaintext.length}`)
  }
  if (keys.p256dh.length !== 65 || keys.auth.length !== 16) {
    throw new RangeError('a subscription has a p256dh of 65 bytes and an auth of 16')
  }
  const { salt, sender } = seed
  const agreed = crypto.p256Agree(sender.privateKey, keys.p256dh)
  const { key, nonce } = contentKeys(agreed, keys.p256dh, sender.publicKey, keys.auth, salt, crypto)
  // RFC 8188 §2: 0x02 ends the last record's data. No padding: the length of a notification is no secret worth bytes.
  const record = crypto.aes128GcmSeal(key, nonce, concatBytes(plaintext, Uint8Array.of(2)))
  const header = new Uint8Array(headerBytes)
  header.set(salt)
  new DataView(header.buffer).setUint32(16, recordSize)
  header[20] = sender.publicKey.length
  header.set(sender.publicKey, 21)
  return concatBytes(header, record)
}

/**
 * Decrypts what {@link encryptMessage} made: the browser's side of RFC 8291.
 * @throws {RangeError} when the body is not one `aes128gcm` record for a key of P-256; what the port throws when the
 *   keys do not fit
 */
export function decryptMessage(
  body: Uint8Array,
  receiver: { readonly privateKey: Uint8Array; readonly publicKey: Uint8Array; readonly auth: Uint8Array },
  crypto: CryptoPort,
): Uint8Array<ArrayBuffer> {
  if (body.length < headerBytes + tagBytes + 1 || body[20] !== 65) {
    throw new RangeError('this is not a message in the aes128gcm form of RFC 8291')
  }
  const salt = body.slice(0, 16)
  const senderKey = body.slice(21, headerBytes)
  const agreed = crypto.p256Agree(receiver.privateKey, senderKey)
  const { key, nonce } = contentKeys(agreed, receiver.publicKey, senderKey, receiver.auth, salt, crypto)
  const padded = crypto.aes128GcmOpen(key, nonce, body.slice(headerBytes))
  let end = padded.length - 1
  while (end >= 0 && padded[end] === 0) end--
  if (padded[end] !== 2) throw new RangeError('the last record of a message ends in 0x02 and zeros (RFC 8188 §2)')
  return padded.slice(0, end)
}

/** RFC 8291 §3.4, with HKDF (RFC 5869) written out: every output here is at most one hash long. */
function contentKeys(
  agreed: Uint8Array,
  receiverKey: Uint8Array,
  senderKey: Uint8Array,
  auth: Uint8Array,
  salt: Uint8Array,
  crypto: CryptoPort,
): { key: Uint8Array; nonce: Uint8Array } {
  const one = Uint8Array.of(1)
  const keyInfo = concatBytes(utf8('WebPush: info\0'), receiverKey, senderKey, one)
  const ikm = crypto.hmacSha256(crypto.hmacSha256(auth, agreed), keyInfo)
  const prk = crypto.hmacSha256(salt, ikm)
  const key = crypto.hmacSha256(prk, concatBytes(utf8('Content-Encoding: aes128gcm\0'), one)).slice(0, 16)
  const nonce = crypto.hmacSha256(prk, concatBytes(utf8('Content-Encoding: nonce\0'), one)).slice(0, 12)
  return { key, nonce }
}
