import { createHash, randomBytes } from 'node:crypto'
import { existsSync, mkdirSync, readFileSync, renameSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'

const keyBytes = 32

/** A master key as it is told apart from others: the first four bytes of its hash. */
export type MasterKey = { readonly id: Buffer; readonly key: Buffer }

/** @throws {RangeError} when the text is not 32 bytes of base64url */
export function masterKeyOf(text: string): MasterKey {
  const key = Buffer.from(text, 'base64url')
  if (key.length !== keyBytes) throw new RangeError('a master key wants 32 bytes, as base64url')
  return { id: createHash('sha256').update(key).digest().subarray(0, 4), key }
}

/** Where master keys come from: the first one seals, all of them open. */
export type Keyring = {
  keys(): readonly MasterKey[]
  /** Puts a fresh key in front; the others stay, so that everything still opens. */
  add(): void
  /** Forgets all but the first. */
  trim(): void
}

/** The master key cannot be replaced here. */
export class KeyringFixed extends Error {
  override readonly name = 'KeyringFixed'
}

/** Keys from the environment, the newest first, separated by spaces. They are replaced where they come from. */
export function givenKeyring(given: string): Keyring {
  const keys = given
    .trim()
    .split(/[\s,]+/)
    .map(masterKeyOf)
  const fixed = () => {
    throw new KeyringFixed(
      'the master key is given by the environment; put the new one in front of it there, then rewrap',
    )
  }
  return { keys: () => keys, add: () => (keys.length > 1 ? undefined : fixed()), trim: () => {} }
}

/** Keys kept in the data folder, a line each, the newest first; made at the first start. */
export function keptKeyring(dataDir: string): Keyring {
  mkdirSync(dataDir, { recursive: true, mode: 0o700 })
  const file = join(dataDir, 'master.key')
  const fresh = () => randomBytes(keyBytes).toString('base64url')
  const write = (lines: readonly string[]) => {
    writeFileSync(`${file}.new`, `${lines.join('\n')}\n`, { mode: 0o600 })
    renameSync(`${file}.new`, file)
  }
  if (!existsSync(file)) write([fresh()])
  const read = () => readFileSync(file, 'utf8').split('\n').filter(Boolean)
  return {
    // Read each time: another process of this service may have put a new key in front.
    keys: () => read().map(masterKeyOf),
    add: () => write([fresh(), ...read()]),
    trim: () => write(read().slice(0, 1)),
  }
}
