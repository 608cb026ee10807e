import { replaceProofKey, sealedProofKeys } from '../apps/index.ts'
import { credentialPlace, replaceSealed, sealedAfter } from '../credentials/index.ts'
import { type Database, underLease } from '../database/index.ts'
import { proofPlace } from '../devices/index.ts'
import { replaceSealedSource, sealedSources } from '../sources/index.ts'
import { type Keyring, SealBroken, sourcePlace, type Vault, webhookPlace } from '../vault/index.ts'
import { replaceSealedWebhook, sealedWebhooks } from '../webhooks/index.ts'
import { masterKeysInUse } from './store/master-keys-in-use.ts'

/** Somebody rewraps already. */
export class RewrapUnderWay extends Error {
  override readonly name = 'RewrapUnderWay'
}

/** How many secrets are under the new key, and how many no key opens. */
export type Rewrapped = { readonly rewrapped: number; readonly unopened: number }

/** A secret where it is stored. @returns false when it was changed meanwhile, and so is under the new key */
type StoredSecret = { readonly sealed: Buffer; readonly place: string; replace(after: Buffer): Promise<boolean> }

/**
 * Puts every stored secret under a new master key while the service runs. At every moment each secret opens: the new key
 * joins the ring before the first is wrapped, whoever seals looks at the ring first, and a key leaves only when the database
 * has no row under it. One run at a time, whichever processes are asked; one that breaks off is finished by the next.
 * @throws {KeyringFixed} when the key comes from the environment and there is no new one in front of it
 * @throws {RewrapUnderWay}
 */
export async function rewrapAll(database: Database, vault: Vault, keyring: Keyring): Promise<Rewrapped> {
  const done = await underLease(database, 'rewrap', async (mayGoOn) => {
    keyring.add()
    let [rewrapped, unopened] = [0, 0]
    for await (const stored of storedSecrets(database)) {
      const fresh = anew(vault, stored)
      if (fresh === undefined) unopened++
      else if (fresh !== stored.sealed && (await stored.replace(fresh))) rewrapped++
      if ((rewrapped + unopened) % 50 === 49 && !(await mayGoOn())) return { rewrapped, unopened }
    }
    if (await mayGoOn()) {
      const inUse = await masterKeysInUse(database)
      keyring.trim((id) => inUse.has(id.toString('hex')))
    }
    vault.refresh()
    return { rewrapped, unopened }
  })
  if (!done) throw new RewrapUnderWay('somebody puts the secrets under a new master key already')
  return done
}

/** @returns undefined for one that no key opens: it stays as it is, and holds up no other */
function anew(vault: Vault, { sealed, place }: StoredSecret): Buffer | undefined {
  try {
    return vault.rewrap(sealed, place)
  } catch (error) {
    if (error instanceof SealBroken) return undefined
    throw error
  }
}

async function* storedSecrets(database: Database): AsyncGenerator<StoredSecret> {
  for (let after = 0; ; ) {
    const rows = await sealedAfter(database, after)
    for (const { no, appNo, environment, platform, sealed } of rows) {
      after = no
      const place = credentialPlace(appNo, environment, platform)
      yield { sealed, place, replace: (fresh) => replaceSealed(database, no, sealed, fresh) }
    }
    if (rows.length === 0) break
  }
  for (const row of await sealedProofKeys(database)) {
    const place = proofPlace(row.appNo, row.environment)
    yield { sealed: row.sealed, place, replace: (fresh) => replaceProofKey(database, row, fresh) }
  }
  for (const { no, appNo, environment, name, sealed } of await sealedSources(database)) {
    const place = sourcePlace(appNo, environment, name)
    yield { sealed, place, replace: (fresh) => replaceSealedSource(database, no, sealed, fresh) }
  }
  for (const { no, appNo, environment, name, sealed } of await sealedWebhooks(database)) {
    const place = webhookPlace(appNo, environment, name)
    yield { sealed, place, replace: (fresh) => replaceSealedWebhook(database, no, sealed, fresh) }
  }
}
