import type { SourceRow } from '../store/sources/sources.ts'
import { sourcePlace } from '../vault/places.ts'
import type { Vault } from '../vault/vault.ts'

/** What of a source is sealed. */
export type SourceSecrets = {
  readonly url?: string | undefined
  readonly headers?: Readonly<Record<string, string>> | undefined
  /** Any of them is believed: while one is replaced there are two. */
  readonly secrets?: readonly string[] | undefined
  /** What stands in the address of incoming webhooks. */
  readonly address?: string | undefined
}

export const openSecrets = (
  vault: Vault,
  { appNo, environment, name, sealed }: Pick<SourceRow, 'appNo' | 'environment' | 'name' | 'sealed'>,
): SourceSecrets =>
  JSON.parse(vault.open(sealed, sourcePlace(appNo, environment, name)).toString('utf8')) as SourceSecrets

export const sealSecrets = (
  vault: Vault,
  { appNo, environment, name }: Pick<SourceRow, 'appNo' | 'environment' | 'name'>,
  secrets: SourceSecrets,
): Buffer => vault.seal(Buffer.from(JSON.stringify(secrets)), sourcePlace(appNo, environment, name))
