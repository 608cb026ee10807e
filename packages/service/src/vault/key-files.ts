import { randomBytes } from 'node:crypto'
import { existsSync, mkdirSync, readFileSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'

/** What whoever runs the service holds: it may make apps, accounts and keys. Readable only by the service's own user. */
export const operatorKey = (dataDir: string): string => keptKey(dataDir, 'operator.key', 'zb-operator-')

function keptKey(dataDir: string, name: string, prefix: string): string {
  mkdirSync(dataDir, { recursive: true, mode: 0o700 })
  const file = join(dataDir, name)
  if (!existsSync(file))
    writeFileSync(file, prefix + randomBytes(32).toString('base64url'), { mode: 0o600, flag: 'wx' })
  return readFileSync(file, 'utf8').trim()
}
