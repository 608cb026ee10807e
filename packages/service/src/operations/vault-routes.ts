import type { Api } from '../api/index.ts'
import { Problem } from '../base/index.ts'
import { KeyringFixed } from '../vault/index.ts'
import { type Rewrapped, RewrapUnderWay } from './rewrap.ts'

/** @param rewrap puts all stored secrets under a new master key */
export function serveVault(api: Api, rewrap: () => Promise<Rewrapped>): void {
  api.serve('rewrapVault', async () => {
    try {
      return await rewrap()
    } catch (error) {
      if (error instanceof KeyringFixed) throw new Problem('master-key-fixed')
      if (error instanceof RewrapUnderWay) throw new Problem('rewrap-under-way')
      throw error
    }
  })
}
