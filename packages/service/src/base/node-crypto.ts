import {
  createCipheriv,
  createDecipheriv,
  createECDH,
  createHmac,
  createPrivateKey,
  randomBytes,
  sign,
} from 'node:crypto'
import { type CryptoPort, toBase64url } from '@zbell/core'

type Bytes = Uint8Array<ArrayBuffer>
const plain = (bytes: Buffer): Bytes => new Uint8Array(bytes)
const tagBytes = 16

/** The core's cryptography by Node's own OpenSSL. */
export const nodeCrypto: CryptoPort = {
  p256KeyPair() {
    const pair = createECDH('prime256v1')
    const publicKey = pair.generateKeys()
    // OpenSSL drops leading zeros of the scalar.
    const privateKey = Buffer.concat([Buffer.alloc(32), pair.getPrivateKey()]).subarray(-32)
    return { privateKey: plain(privateKey), publicKey: plain(publicKey) }
  },
  p256Agree(privateKey, publicKey) {
    const pair = createECDH('prime256v1')
    pair.setPrivateKey(privateKey)
    return plain(pair.computeSecret(publicKey))
  },
  hmacSha256: (key, message) => plain(createHmac('sha256', key).update(message).digest()),
  aes128GcmSeal(key, nonce, plaintext) {
    const cipher = createCipheriv('aes-128-gcm', key, nonce)
    return plain(Buffer.concat([cipher.update(plaintext), cipher.final(), cipher.getAuthTag()]))
  },
  aes128GcmOpen(key, nonce, sealed) {
    const decipher = createDecipheriv('aes-128-gcm', key, nonce)
    decipher.setAuthTag(sealed.subarray(-tagBytes))
    return plain(Buffer.concat([decipher.update(sealed.subarray(0, -tagBytes)), decipher.final()]))
  },
  es256Sign(privateKey, publicKey, message) {
    const key = createPrivateKey({
      format: 'jwk',
      key: {
        kty: 'EC',
        crv: 'P-256',
        d: toBase64url(privateKey),
        x: toBase64url(publicKey.slice(1, 33)),
        y: toBase64url(publicKey.slice(33, 65)),
      },
    })
    return plain(sign('sha256', message, { key, dsaEncoding: 'ieee-p1363' }))
  },
  randomBytes: (count) => plain(randomBytes(count)),
}

/** Whether 65 bytes are a point on P-256. */
export function isP256Point(bytes: Uint8Array): boolean {
  if (bytes.length !== 65 || bytes[0] !== 4) return false
  try {
    const pair = createECDH('prime256v1')
    pair.generateKeys()
    pair.computeSecret(bytes)
    return true
  } catch {
    return false // OpenSSL refuses what is not on the curve; that is the question.
  }
}
