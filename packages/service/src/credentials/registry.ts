import { createPrivateKey, generateKeyPairSync, randomBytes } from 'node:crypto'
import type { certificateRequest, credentialMaking } from '@zbell/contract'
import { credentialOf, type Platform, uuidV7 } from '@zbell/core'
import { calculateJwkThumbprint, type JWK } from 'jose'
import type { z } from 'zod'
import type { Database, Scope } from '../database/index.ts'
import type { Vault } from '../vault/index.ts'
import { type Credential, credentialPlace } from './credential.ts'
import { checkAccount, type ProfileWords } from './key-file.ts'
import { type CredentialKind, marry, type Recognised, recognise } from './recognise.ts'
import { CredentialRefused } from './refusals.ts'
import { makeCertificateRequest, publicKeyHash } from './request-form.ts'
import { type Added, nothingShown, orNull, type Shown, secretOf, shownOf } from './secret-of.ts'
import {
  bindCredential,
  type CredentialRow,
  changeFacts,
  completeRequest,
  findByFingerprint,
  findCredential,
  findInTheWay,
  findRequest,
  insertCredential,
  type NewCredential,
  placeCredential,
} from './store/credentials.ts'

/** Two of a platform have places, one in use and one that waits: a third would retire the one that waits. */
export class CredentialWaits extends Error {
  override readonly name = 'CredentialWaits'
  readonly id: string

  constructor({ id, kind, createdAt }: { readonly id: string; readonly kind: string; readonly createdAt: Date }) {
    super(`The ${kind} ${id}, which was added at ${createdAt.toISOString()}, waits and would be retired.`)
    this.id = id
  }
}

/** What an app's gateway profiles say about credentials. */
export type ProfilesOf = {
  /** Of the one in use; `undefined` while there is none. */
  readonly words: (scope: Scope, platform: Platform) => Promise<ProfileWords | undefined>
  /** Where those lead that are in use or wait. */
  readonly origins: (scope: Scope, platform: Platform) => Promise<readonly string[]>
}

/** Takes credentials in. Each step is checked before anything is stored, so nothing is ever kept by half. */
export class CredentialRegistry {
  readonly #database: Database
  readonly #vault: Vault
  readonly #profiles: ProfilesOf

  constructor(database: Database, vault: Vault, profiles: ProfilesOf) {
    this.#database = database
    this.#vault = vault
    this.#profiles = profiles
  }

  /** @throws {CredentialRefused} @throws {ExtrasMissing} @throws {CredentialWaits} */
  async add(scope: Scope, added: Added, by: string): Promise<CredentialRow> {
    const { platform, passphrase } = added
    const now = new Date()
    const files = added.files.map(({ content }) => Buffer.from(content, 'base64'))
    const profile = platform === 'web' ? undefined : await this.#profiles.words(scope, platform)
    const found = await recognise(files, passphrase, platform, now, profile?.keyFile?.key)
    if (found.is === 'certificate') return this.#marryToRequest(scope, found, added, by, now)
    const wanted = platform === 'web' ? 'vapid-key' : profile && credentialOf[profile.authentication.kind]
    if (wanted !== undefined && wanted !== found.is) throw new CredentialRefused('wrong-kind')
    const known = await findByFingerprint(this.#database, scope, platform, found.fingerprint)
    if (known) return this.#bindAnew(scope, known)
    const { secret, facts } = secretOf(found, added, profile)
    await this.requireSlot(scope, platform, added.retires)
    return this.#store(scope, platform, secret, { ...shownOf(found, secret), facts }, added.use, by, now)
  }

  /** Whether another may have a place. @param retires the one that makes room for it @throws {CredentialWaits} */
  async requireSlot(scope: Scope, platform: Platform, retires: string | undefined): Promise<void> {
    const waits = await findInTheWay(this.#database, scope, platform)
    if (waits && waits.id !== retires) throw new CredentialWaits(waits)
  }

  /** One that is known and added again may go where the profiles lead by now. @throws {CredentialRefused} */
  async #bindAnew(scope: Scope, known: CredentialRow): Promise<CredentialRow> {
    const origins = await this.#originsFor(scope, known.platform)
    if (origins.every((origin) => known.origins?.includes(origin))) throw new CredentialRefused('known')
    await bindCredential(this.#database, known.no, origins)
    return this.#read(scope, known.id)
  }

  async #originsFor(scope: Scope, platform: Platform): Promise<readonly string[]> {
    return platform === 'web' ? [] : this.#profiles.origins(scope, platform)
  }

  /** Says facts of the account beside a credential. @throws {CredentialRefused} */
  async sayFacts(scope: Scope, row: CredentialRow, facts: Record<string, string>): Promise<CredentialRow> {
    const profile = await this.#profiles.words(scope, row.platform)
    checkAccount(facts, profile?.facts)
    await changeFacts(this.#database, row.no, facts)
    return this.#read(scope, row.id)
  }

  /** Makes a web key pair. @throws {CredentialWaits} */
  async make(
    scope: Scope,
    { subject, use, retires }: z.output<typeof credentialMaking>,
    by: string,
  ): Promise<CredentialRow> {
    await this.requireSlot(scope, 'web', retires)
    const jwk = generateKeyPairSync('ec', { namedCurve: 'P-256' }).privateKey.export({ format: 'jwk' }) as JWK
    const shown = { ...nothingShown, fingerprint: await calculateJwkThumbprint(jwk) }
    return this.#store(scope, 'web', { kind: 'vapid-key', jwk, subject }, shown, use, by, new Date())
  }

  /** Makes a key and the request for its certificate; several may be open at once. */
  async request(
    scope: Scope,
    { platform, commonName }: z.output<typeof certificateRequest>,
    by: string,
  ): Promise<{ row: CredentialRow; pem: string }> {
    const made = await makeCertificateRequest(commonName)
    const place = credentialPlace(scope.app.no, scope.environment, platform)
    const row = this.#newRow(scope, platform, 'client-certificate', by, new Date())
    await insertCredential(this.#database, {
      ...row,
      sealed: this.#vault.seal(made.privateKey, place),
      publicKeyHash: made.publicKeyHash,
      subject: `CN=${commonName}`,
    })
    return { row: await this.#read(scope, row.id), pem: made.pem }
  }

  async #marryToRequest(
    scope: Scope,
    found: Recognised & { is: 'certificate' },
    { use, retires, facts = {} }: Pick<Added, 'use' | 'retires' | 'facts'>,
    by: string,
    now: Date,
  ): Promise<CredentialRow> {
    const request = await findRequest(this.#database, scope, publicKeyHash(found.certificate))
    if (!request) throw new CredentialRefused('certificate-alone')
    const place = credentialPlace(scope.app.no, scope.environment, request.platform)
    const key = createPrivateKey({ key: this.#vault.open(request.sealed, place), format: 'der', type: 'pkcs8' })
    const whole = marry(key, [found.certificate, ...found.chain], now)
    const secret: Credential = { kind: 'client-certificate', key: whole.key, certificates: whole.certificates }
    checkAccount(facts, (await this.#profiles.words(scope, request.platform))?.facts)
    const origins = await this.#originsFor(scope, request.platform)
    const shown = { ...shownOf(whole, secret), facts: orNull(facts), origins }
    await this.requireSlot(scope, request.platform, retires)
    await completeRequest(this.#database, request.no, { ...shown, sealed: this.#seal(secret, place) })
    await placeCredential(this.#database, request, use, by)
    return this.#read(scope, request.id)
  }

  async #store(
    scope: Scope,
    platform: Platform,
    secret: Credential,
    shown: Shown,
    use: boolean,
    by: string,
    now: Date,
  ): Promise<CredentialRow> {
    const place = credentialPlace(scope.app.no, scope.environment, platform)
    const row = {
      ...this.#newRow(scope, platform, secret.kind, by, now),
      ...shown,
      origins: await this.#originsFor(scope, platform),
      sealed: this.#seal(secret, place),
    }
    await insertCredential(this.#database, row)
    const stored = await this.#read(scope, row.id)
    await placeCredential(this.#database, stored, use, by)
    return this.#read(scope, row.id)
  }

  #newRow(scope: Scope, platform: Platform, kind: CredentialKind, by: string, now: Date): NewCredential {
    const { app, environment } = scope
    const id = uuidV7(now.getTime(), randomBytes(10))
    return {
      id,
      appNo: app.no,
      environment,
      platform,
      kind,
      createdAt: now,
      addedBy: by,
      sealed: Buffer.alloc(0),
      publicKeyHash: null,
      origins: [],
      ...nothingShown,
    }
  }

  #seal(secret: Credential, place: string): Buffer {
    return this.#vault.seal(Buffer.from(JSON.stringify(secret)), place)
  }

  async #read(scope: Scope, id: string): Promise<CredentialRow> {
    const row = await findCredential(this.#database, scope, id)
    if (!row) throw new Error('a credential that was just stored is gone')
    return row
  }
}
