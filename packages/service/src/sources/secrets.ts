import { SealBroken, sourcePlace, type Vault } from '../vault/index.ts'
import { SourceFault } from './fault.ts'
import type { SourceRow } from './store/sources.ts'

/** What of a source is sealed. */
export type SourceSecrets = {
  readonly url?: string | undefined
  readonly headers?: Readonly<Record<string, string>> | undefined
  /** Any of them is believed: while one is replaced there are two. */
  readonly secrets?: readonly string[] | undefined
  /** What stands in the address of incoming webhooks. */
  readonly address?: string | undefined
}

/** @throws {SourceFault} where no master key opens them any more */
export function openSecrets(
  vault: Vault,
  { appNo, environment, name, sealed }: Pick<SourceRow, 'appNo' | 'environment' | 'name' | 'sealed'>,
): SourceSecrets {
  try {
    return JSON.parse(vault.open(sealed, sourcePlace(appNo, environment, name)).toString('utf8')) as SourceSecrets
  } catch (error) {
    if (!(error instanceof SealBroken)) throw error
    throw new SourceFault('has an address that cannot be opened with the master keys that are there')
  }
}

export const sealSecrets = (
  vault: Vault,
  { appNo, environment, name }: Pick<SourceRow, 'appNo' | 'environment' | 'name'>,
  secrets: SourceSecrets,
): Buffer => vault.seal(Buffer.from(JSON.stringify(secrets)), sourcePlace(appNo, environment, name))
