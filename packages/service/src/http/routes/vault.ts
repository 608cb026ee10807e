import { Problem } from '../../problems/problem.ts'
import { KeyringFixed } from '../../vault/keyring.ts'
import type { OperationRouter } from '../serve-operation.ts'

/** @param rewrap puts all stored secrets under a new master key */
export function serveVault(on: OperationRouter, rewrap: () => Promise<number>): void {
  on.serve('rewrapVault', async () => {
    try {
      return { rewrapped: await rewrap() }
    } catch (error) {
      if (error instanceof KeyringFixed) throw new Problem('master-key-fixed')
      throw error
    }
  })
}
