import { createPrivateKey, generateKeyPairSync, randomBytes } from 'node:crypto'
import type { certificateRequest, credentialMaking, credentialRequest } from '@zbell/contract'
import { type Platform, uuidV7 } from '@zbell/core'
import { calculateJwkThumbprint, type JWK } from 'jose'
import type { z } from 'zod'
import { type Credential, credentialPlace } from '../gateways/credential.ts'
import type { Scope } from '../store/apps/apps.ts'
import {
  type CredentialRow,
  completeRequest,
  findByFingerprint,
  findCredential,
  findRequest,
  insertCredential,
  type NewCredential,
  placeCredential,
} from '../store/apps/credentials.ts'
import type { Database } from '../store/database.ts'
import type { Vault } from '../vault/vault.ts'
import { type CredentialKind, marry, type Recognised, recognise } from './recognise.ts'
import { CredentialRefused } from './refusals.ts'
import { makeCertificateRequest, publicKeyHash } from './request-form.ts'

type Handed = z.output<typeof credentialRequest>

/** A recognised key wants more words before it can sign. */
export class ExtrasMissing extends Error {
  override readonly name = 'ExtrasMissing'
  readonly missing: readonly string[]
  readonly kind: CredentialKind

  constructor(kind: CredentialKind, missing: readonly string[]) {
    super(`a ${kind} wants ${missing.join(' and ')}`)
    this.kind = kind
    this.missing = missing
  }
}

/** Which kinds a platform's gateway takes; `undefined` while no profile says. */
export type KindsTaken = (platform: Platform) => CredentialKind | undefined

/** Takes credentials in. Each step is checked before anything is stored, so nothing is ever kept by half. */
export class CredentialDesk {
  readonly #database: Database
  readonly #vault: Vault
  readonly #kindTaken: KindsTaken

  constructor(database: Database, vault: Vault, kindTaken: KindsTaken) {
    this.#database = database
    this.#vault = vault
    this.#kindTaken = kindTaken
  }

  /** @throws {CredentialRefused} @throws {ExtrasMissing} */
  async add(scope: Scope, handed: Handed, by: string): Promise<CredentialRow> {
    const { platform, passphrase } = handed
    const now = new Date()
    const files = handed.files.map(({ content }) => Buffer.from(content, 'base64'))
    const found = await recognise(files, passphrase, platform, now)
    if (found.is === 'certificate') return this.#marryToRequest(scope, found, handed.use, by, now)
    const wanted = platform === 'web' ? 'vapid-key' : this.#kindTaken(platform)
    if (wanted !== undefined && wanted !== found.is) throw new CredentialRefused('wrong-kind')
    if (await findByFingerprint(this.#database, scope, platform, found.fingerprint))
      throw new CredentialRefused('known')
    const secret = secretOf(found, handed)
    return this.#store(scope, platform, secret, shownOf(found, secret), handed.use, by, now)
  }

  /** Makes a web key pair. */
  async make(scope: Scope, { subject, use }: z.output<typeof credentialMaking>, by: string): Promise<CredentialRow> {
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
    use: boolean,
    by: string,
    now: Date,
  ): Promise<CredentialRow> {
    const request = await findRequest(this.#database, scope, publicKeyHash(found.certificate))
    if (!request) throw new CredentialRefused('certificate-alone')
    const place = credentialPlace(scope.app.no, scope.environment, request.platform)
    const key = createPrivateKey({ key: this.#vault.open(request.sealed, place), format: 'der', type: 'pkcs8' })
    const whole = marry(key, [found.certificate, ...found.chain], now)
    const secret: Credential = { kind: 'client-certificate', key: whole.key, certificates: whole.certificates }
    await completeRequest(this.#database, request.no, { ...shownOf(whole, secret), sealed: this.#seal(secret, place) })
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
    const row = { ...this.#newRow(scope, platform, secret.kind, by, now), ...shown, sealed: this.#seal(secret, place) }
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

type Shown = Pick<NewCredential, 'fingerprint' | 'subject' | 'serial' | 'keyId' | 'issuer' | 'notBefore' | 'notAfter'>
const nothingShown: Shown = {
  fingerprint: null,
  subject: null,
  serial: null,
  keyId: null,
  issuer: null,
  notBefore: null,
  notAfter: null,
}

function shownOf(found: Exclude<Recognised, { is: 'certificate' }>, secret: Credential): Shown {
  if (found.is === 'client-certificate') {
    const { fingerprint, subject, serial, notBefore, notAfter } = found
    return {
      ...nothingShown,
      fingerprint,
      subject: subject.slice(0, 1_000),
      serial: serial.slice(0, 100),
      notBefore,
      notAfter,
    }
  }
  const { fingerprint } = found
  if (secret.kind === 'vapid-key') return { ...nothingShown, fingerprint, subject: secret.subject }
  return secret.kind === 'client-certificate'
    ? { ...nothingShown, fingerprint }
    : { ...nothingShown, fingerprint, keyId: secret.keyId, issuer: secret.issuer }
}

function secretOf(found: Exclude<Recognised, { is: 'certificate' }>, handed: Handed): Credential {
  const need = <Name extends 'keyId' | 'issuer' | 'scope' | 'subject'>(
    kind: CredentialKind,
    given: { [N in Name]?: string | undefined },
    names: readonly Name[],
  ) => {
    const missing = names.filter((name) => !given[name])
    if (missing.length > 0) throw new ExtrasMissing(kind, missing)
    return given as Record<Name, string>
  }
  switch (found.is) {
    case 'client-certificate':
      return { kind: 'client-certificate', key: found.key, certificates: found.certificates }
    case 'signing-key': {
      const { keyId, issuer } = need('signing-key', { keyId: handed.keyId ?? found.keyId, issuer: handed.issuer }, [
        'keyId',
        'issuer',
      ])
      return { kind: 'signing-key', jwk: found.jwk, keyId, issuer }
    }
    case 'service-key': {
      const { keyId, issuer, scope } = need(
        'service-key',
        { keyId: handed.keyId ?? found.keyId, issuer: handed.issuer, scope: handed.scope },
        ['keyId', 'issuer', 'scope'],
      )
      const tokenAddress = handed.tokenAddress === undefined ? {} : { tokenAddress: handed.tokenAddress }
      return { kind: 'service-key', jwk: found.jwk, keyId, issuer, scope, ...tokenAddress }
    }
    case 'vapid-key': {
      const { subject } = need('vapid-key', { subject: handed.subject }, ['subject'])
      return { kind: 'vapid-key', jwk: found.jwk, subject }
    }
    default:
      return found satisfies never
  }
}
