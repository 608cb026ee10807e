import { createCipheriv, createDecipheriv, randomBytes } from 'node:crypto'
import type { Keyring, MasterKey } from './keyring.ts'

/** The first byte of a sealed secret says its form; behind it stands which master key wrapped the data key. */
const form = 2
const idBytes = 4
const ivBytes = 12
const tagBytes = 16
const keyBytes = 32
const wrappedStart = 1 + idBytes
const wrappedEnd = wrappedStart + ivBytes + keyBytes + tagBytes

/** A sealed secret cannot be opened: another master key, another place, or a changed byte. */
export class SealBroken extends Error {
  override readonly name = 'SealBroken'
}

/**
 * Seals secrets at rest: AES-256-GCM with a data key each, wrapped by a master key. What a secret belongs to is
 * authenticated too, so that a sealed secret copied to another row does not open there.
 */
export class Vault {
  readonly #keyring: Keyring
  #keys: readonly MasterKey[]

  /** @throws {RangeError} when a master key has not 32 bytes */
  constructor(keyring: Keyring) {
    this.#keyring = keyring
    this.#keys = keyring.keys()
  }

  seal(secret: Uint8Array, belongsTo: string): Buffer {
    const dataKey = randomBytes(keyBytes)
    return Buffer.concat([this.#wrap(dataKey, belongsTo), encrypt(dataKey, secret, belongsTo)])
  }

  /** @throws {SealBroken} */
  open(sealed: Buffer, belongsTo: string): Buffer {
    return broken(() => decrypt(this.#dataKey(sealed, belongsTo), sealed.subarray(wrappedEnd), belongsTo))
  }

  /** The same secret under the newest master key; the very same bytes when it is under that one already. @throws {SealBroken} */
  rewrap(sealed: Buffer, belongsTo: string): Buffer {
    this.refresh()
    if (idOf(sealed).equals(this.#newest.id)) return sealed
    const dataKey = broken(() => this.#dataKey(sealed, belongsTo))
    return Buffer.concat([this.#wrap(dataKey, belongsTo), sealed.subarray(wrappedEnd)])
  }

  /** Looks at the keyring again, for a key that was put there since. */
  refresh(): void {
    this.#keys = this.#keyring.keys()
  }

  get #newest(): MasterKey {
    return this.#keys[0]!
  }

  #wrap(dataKey: Buffer, belongsTo: string): Buffer {
    // By the key that is the newest now, not when this process began: the one before may be about to leave.
    this.refresh()
    const { id, key } = this.#newest
    return Buffer.concat([Buffer.of(form), id, encrypt(key, dataKey, belongsTo)])
  }

  #dataKey(sealed: Buffer, belongsTo: string): Buffer {
    if (sealed[0] !== form || sealed.length < wrappedEnd + ivBytes + tagBytes)
      throw new SealBroken('not a sealed secret')
    const find = () => this.#keys.find(({ id }) => id.equals(idOf(sealed)))
    // A key that is not known here may have been put on the ring by another process.
    if (!find()) this.refresh()
    const master = find()
    if (!master) throw new SealBroken('the master key that wrapped this secret is not on the ring')
    return decrypt(master.key, sealed.subarray(wrappedStart, wrappedEnd), belongsTo)
  }
}

/** The id of the master key that a secret is under. */
const idOf = (sealed: Buffer): Buffer => sealed.subarray(1, wrappedStart)

function broken<T>(open: () => T): T {
  try {
    return open()
  } catch (error) {
    if (error instanceof SealBroken) throw error
    throw new SealBroken('this secret does not open here; it was changed, or belongs elsewhere')
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
