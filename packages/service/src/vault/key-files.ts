import { randomBytes } from 'node:crypto'
import {
  closeSync,
  existsSync,
  fsyncSync,
  mkdirSync,
  openSync,
  readFileSync,
  renameSync,
  statSync,
  writeFileSync,
} from 'node:fs'
import { dirname, join } from 'node:path'

/** A file that holds a key can be read by others. */
export class KeyFileExposed extends Error {
  override readonly name = 'KeyFileExposed'
}

/** @throws {KeyFileExposed} when anybody but its owner can read or write a file */
export function requirePrivate(file: string): void {
  const { mode, uid } = statSync(file)
  const own = process.getuid?.()
  // There are no such owners and modes where there is no such call.
  if (own === undefined) return
  if ((mode & 0o077) !== 0)
    throw new KeyFileExposed(`${file} holds a key, and others can read or write it; change that: chmod 600 ${file}`)
  if (own !== 0 && uid !== own)
    throw new KeyFileExposed(`${file} holds a key, and belongs to another user; change that`)
}

/** Writes a file whole or not at all, and sees to it that it has reached the disk. Only its owner can read it. */
export function writeWhole(file: string, text: string): void {
  const fresh = `${file}.${process.pid}.new`
  const handle = openSync(fresh, 'w', 0o600)
  try {
    writeFileSync(handle, text)
    fsyncSync(handle)
  } finally {
    closeSync(handle)
  }
  renameSync(fresh, file)
  // The name is the folder's to keep.
  const folder = openSync(dirname(file), 'r')
  try {
    fsyncSync(folder)
  } finally {
    closeSync(folder)
  }
}

/** What whoever runs the service holds: it may make apps, accounts and keys. Readable only by the service's own user. */
export const operatorKey = (dataDir: string): string => keptKey(dataDir, 'operator.key', 'zb-operator-')

function keptKey(dataDir: string, name: string, prefix: string): string {
  mkdirSync(dataDir, { recursive: true, mode: 0o700 })
  const file = join(dataDir, name)
  if (!existsSync(file))
    writeFileSync(file, prefix + randomBytes(32).toString('base64url'), { mode: 0o600, flag: 'wx' })
  requirePrivate(file)
  return readFileSync(file, 'utf8').trim()
}
