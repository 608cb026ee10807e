import { mkdtempSync, readFileSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { nodeCrypto } from '@zbell/service/crypto'
import { openStandins } from '@zbell/standins'
import { dist } from '../programs.ts'

/**
 * A folder of stand-ins that were opened once, with their keys and certificates: to make these takes more than a second, to copy
 * the folder nothing. Whoever opens a copy gets ports of its own.
 */
export async function makeStandinsTemplate(): Promise<string> {
  const dir = mkdtempSync(join(tmpdir(), 'bell-standins-'))
  const standins = await openStandins({ dir, crypto: nodeCrypto, profiles: `${dist}profiles` })
  await standins.close()
  const file = join(dir, 'standins.json')
  const kept = JSON.parse(readFileSync(file, 'utf8')) as object
  writeFileSync(file, JSON.stringify({ ...kept, ports: { ios: 0, android: 0, push: 0, control: 0 } }), { mode: 0o600 })
  return dir
}
