import { readFileSync } from 'node:fs'
import { type GatewayProfile, gatewayProfile } from '@zbell/core'
import { parseDocument } from 'yaml'
import { ConfigError } from '../config/load.ts'

/** Reads a gateway profile. @throws {ConfigError} that names each fault with its place */
export function loadProfile(file: string): GatewayProfile {
  let text: string
  try {
    text = readFileSync(file, 'utf8')
  } catch (error) {
    throw new ConfigError(`${file}: the gateway profile cannot be read (${(error as NodeJS.ErrnoException).code})`)
  }
  const document = parseDocument(text)
  const [fault] = document.errors
  if (fault) throw new ConfigError(`${file}: ${fault.message}`)
  const read = gatewayProfile.safeParse(document.toJS())
  if (read.success) return read.data
  throw new ConfigError(
    read.error.issues.map((issue) => `${file}: ${issue.path.join('.') || 'the profile'} ${issue.message}`).join('\n'),
  )
}
