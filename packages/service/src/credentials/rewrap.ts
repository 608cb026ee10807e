import { credentialPlace } from '../gateways/credential.ts'
import { proofPlace } from '../people/proofs.ts'
import { replaceSealed, sealedAfter } from '../store/apps/credentials.ts'
import { replaceProofKey, sealedProofKeys } from '../store/apps/settings.ts'
import type { Database } from '../store/database.ts'
import { replaceSealedSource, sealedSources } from '../store/sources/sources.ts'
import { replaceSealedWebhook, sealedWebhooks } from '../store/webhooks/webhooks.ts'
import type { Keyring } from '../vault/keyring.ts'
import { sourcePlace, webhookPlace } from '../vault/places.ts'
import type { Vault } from '../vault/vault.ts'

/**
 * Puts every stored secret under a new master key while the service runs. At every moment each secret opens: the new key
 * joins the ring before the first is wrapped, and the old one leaves it after the last. A run that breaks off is finished
 * by the next one.
 * @returns how many were wrapped anew
 * @throws {KeyringFixed} when the key comes from the environment and there is no new one in front of it
 */
export async function rewrapAll(database: Database, vault: Vault, keyring: Keyring): Promise<number> {
  keyring.add()
  vault.refresh()
  let count = 0
  for (
    let rows = await sealedAfter(database, 0);
    rows.length > 0;
    rows = await sealedAfter(database, rows.at(-1)!.no)
  ) {
    for (const row of rows) {
      const fresh = vault.rewrap(row.sealed, credentialPlace(row.appNo, row.environment, row.platform))
      if (fresh === row.sealed) continue
      // A credential that was changed meanwhile was sealed under the new key already.
      if (await replaceSealed(database, row.no, row.sealed, fresh)) count++
    }
  }
  for (const row of await sealedProofKeys(database)) {
    const fresh = vault.rewrap(row.sealed, proofPlace(row.appNo, row.environment))
    if (fresh !== row.sealed && (await replaceProofKey(database, row, fresh))) count++
  }
  for (const { no, appNo, environment, name, sealed } of await sealedSources(database)) {
    const fresh = vault.rewrap(sealed, sourcePlace(appNo, environment, name))
    if (fresh !== sealed && (await replaceSealedSource(database, no, sealed, fresh))) count++
  }
  for (const { no, appNo, environment, name, sealed } of await sealedWebhooks(database)) {
    const fresh = vault.rewrap(sealed, webhookPlace(appNo, environment, name))
    if (fresh !== sealed && (await replaceSealedWebhook(database, no, sealed, fresh))) count++
  }
  keyring.trim()
  vault.refresh()
  return count
}
