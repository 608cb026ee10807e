import { type Rewrapped, RewrapUnderWay } from '../../credentials/rewrap.ts'
import { Problem } from '../../problems/problem.ts'
import { KeyringFixed } from '../../vault/keyring.ts'
import type { OperationRouter } from '../serve-operation.ts'

/** @param rewrap puts all stored secrets under a new master key */
export function serveVault(on: OperationRouter, rewrap: () => Promise<Rewrapped>): void {
  on.serve('rewrapVault', async () => {
    try {
      return await rewrap()
    } catch (error) {
      if (error instanceof KeyringFixed) throw new Problem('master-key-fixed')
      if (error instanceof RewrapUnderWay) throw new Problem('rewrap-under-way')
      throw error
    }
  })
}
