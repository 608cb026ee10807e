import { createHash, randomBytes } from 'node:crypto'
import { existsSync, mkdirSync, readFileSync } from 'node:fs'
import { join } from 'node:path'
import { requirePrivate, writeWhole } from './key-files.ts'

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
  /** Puts those that nothing is under aside: they open for a while yet, and seal nothing more. @param isUsed by a key's id */
  trim(isUsed: (id: Buffer) => boolean): void
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

/**
 * What was sealed at the moment in which a key left, by a process that had read the ring just before, still opens; so long a
 * key stays aside.
 */
const asideMs = 30 * 86_400_000

/**
 * Keys kept in the data folder, a line each, the newest first; made at the first start. Those that left stand in a file of
 * their own, each with the moment of it.
 * @throws {KeyFileExposed}
 */
export function keptKeyring(dataDir: string, now: () => number = Date.now): Keyring {
  mkdirSync(dataDir, { recursive: true, mode: 0o700 })
  const [file, asideFile] = [join(dataDir, 'master.key'), join(dataDir, 'master.key.aside')]
  const fresh = () => randomBytes(keyBytes).toString('base64url')
  const linesOf = (name: string): string[] =>
    existsSync(name) ? readFileSync(name, 'utf8').split('\n').filter(Boolean) : []
  const write = (name: string, lines: readonly string[]) => writeWhole(name, lines.map((line) => `${line}\n`).join(''))
  if (!existsSync(file)) write(file, [fresh()])
  for (const name of [file, asideFile]) if (existsSync(name)) requirePrivate(name)
  const aside = () =>
    linesOf(asideFile).map((line) => {
      const [key = '', since = ''] = line.split(' ')
      return { line, key, sinceMs: Date.parse(since) || 0 }
    })
  return {
    // Read each time: another process of this service may have put a new key in front.
    keys: () => [...linesOf(file), ...aside().map(({ key }) => key)].map(masterKeyOf),
    add: () => write(file, [fresh(), ...linesOf(file)]),
    trim(isUsed) {
      const [first = '', ...others] = linesOf(file)
      const idOf = (key: string) => masterKeyOf(key).id
      const leaving = others.filter((key) => !isUsed(idOf(key)))
      const staying = aside().filter(({ key, sinceMs }) => isUsed(idOf(key)) || now() - sinceMs < asideMs)
      // First there, then gone from here: at every moment it stands in one of the two.
      const moment = new Date(now()).toISOString()
      write(asideFile, [...staying.map(({ line }) => line), ...leaving.map((key) => `${key} ${moment}`)])
      if (leaving.length > 0) write(file, [first, ...others.filter((key) => !leaving.includes(key))])
    },
  }
}
