import { createCipheriv, createDecipheriv, randomBytes } from 'node:crypto'

const form = 1
const ivBytes = 12
const tagBytes = 16
const keyBytes = 32

/** A sealed secret cannot be opened: another master key, another place, or a changed byte. */
export class SealBroken extends Error {
  override readonly name = 'SealBroken'
}

/**
 * Seals secrets at rest: AES-256-GCM with a data key each, wrapped by the master key. What a secret belongs to is
 * authenticated too, so that a sealed secret copied to another row does not open there.
 */
export class Vault {
  readonly #master: Buffer

  /** @throws {RangeError} when the master key has not 32 bytes */
  constructor(master: Buffer) {
    if (master.length !== keyBytes) throw new RangeError('the master key wants 32 bytes, as base64url')
    this.#master = master
  }

  seal(secret: Uint8Array, belongsTo: string): Buffer {
    const dataKey = randomBytes(keyBytes)
    return Buffer.concat([
      Buffer.of(form),
      encrypt(this.#master, dataKey, belongsTo),
      encrypt(dataKey, secret, belongsTo),
    ])
  }

  /** @throws {SealBroken} */
  open(sealed: Buffer, belongsTo: string): Buffer {
    const wrappedEnd = 1 + ivBytes + keyBytes + tagBytes
    if (sealed[0] !== form || sealed.length < wrappedEnd + ivBytes + tagBytes)
      throw new SealBroken('not a sealed secret')
    try {
      const dataKey = decrypt(this.#master, sealed.subarray(1, wrappedEnd), belongsTo)
      return decrypt(dataKey, sealed.subarray(wrappedEnd), belongsTo)
    } catch {
      throw new SealBroken('the master key does not open this secret; is it the one it was sealed with?')
    }
  }
}

function encrypt(key: Buffer, plain: Uint8Array, belongsTo: string): Buffer {
  const iv = randomBytes(ivBytes)
  const cipher = createCipheriv('aes-256-gcm', key, iv).setAAD(Buffer.from(belongsTo))
  return Buffer.concat([iv, cipher.update(plain), cipher.final(), cipher.getAuthTag()])
}

function decrypt(key: Buffer, sealed: Buffer, belongsTo: string): Buffer {
  const decipher = createDecipheriv('aes-256-gcm', key, sealed.subarray(0, ivBytes)).setAAD(Buffer.from(belongsTo))
  decipher.setAuthTag(sealed.subarray(-tagBytes))
  return Buffer.concat([decipher.update(sealed.subarray(ivBytes, -tagBytes)), decipher.final()])
}
