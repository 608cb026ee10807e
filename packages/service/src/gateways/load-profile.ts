import { readFileSync } from 'node:fs'
import { dirname, resolve } from 'node:path'
import type { GatewayProfile } from '@zbell/core'
import { ConfigError } from '../base/index.ts'
import { lintProfile } from './lint-profile.ts'

export type LoadedProfile = { readonly profile: GatewayProfile; readonly ca: readonly string[] }

/** Reads a gateway profile and the certificates that it names. @throws {ConfigError} that names each fault with its place */
export function loadProfile(file: string): LoadedProfile {
  let text: string
  try {
    text = readFileSync(file, 'utf8')
  } catch (error) {
    throw new ConfigError(`${file}: the gateway profile cannot be read (${(error as NodeJS.ErrnoException).code})`)
  }
  const { profile, faults } = lintProfile(text)
  if (profile) return { profile, ca: certificates(file, profile.caFile) }
  throw new ConfigError(faults.map(({ line, column, says }) => `${file}:${line}:${column}: ${says}`).join('\n'))
}

/** A CA file stands beside its profile unless its path says otherwise. */
function certificates(profileFile: string, caFile: string | undefined): string[] {
  if (caFile === undefined) return []
  const file = resolve(dirname(profileFile), caFile)
  let text: string
  try {
    text = readFileSync(file, 'utf8')
  } catch (error) {
    throw new ConfigError(`${profileFile}: caFile ${file} cannot be read (${(error as NodeJS.ErrnoException).code})`)
  }
  if (!text.includes('-----BEGIN CERTIFICATE-----'))
    throw new ConfigError(`${profileFile}: caFile ${file} holds no certificate in PEM form`)
  return [text]
}
