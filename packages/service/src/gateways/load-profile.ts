import { readFileSync } from 'node:fs'
import type { GatewayProfile } from '@zbell/core'
import { ConfigError } from '../config/load.ts'
import { lintProfile } from './lint-profile.ts'

/** Reads a gateway profile. @throws {ConfigError} that names each fault with its place */
export function loadProfile(file: string): GatewayProfile {
  let text: string
  try {
    text = readFileSync(file, 'utf8')
  } catch (error) {
    throw new ConfigError(`${file}: the gateway profile cannot be read (${(error as NodeJS.ErrnoException).code})`)
  }
  const { profile, faults } = lintProfile(text)
  if (profile) return profile
  throw new ConfigError(faults.map(({ line, column, says }) => `${file}:${line}:${column}: ${says}`).join('\n'))
}
