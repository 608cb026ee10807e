import { createHash } from 'node:crypto'
import type { UserRefusal } from '@zbell/core'
import { errors, type JWTPayload, jwtVerify } from 'jose'
import { readSettings, type SettingsRow, storeProofKey } from '../apps/index.ts'
import { Batcher } from '../base/index.ts'
import type { Database, Scope } from '../database/index.ts'
import { newSecret, type Vault } from '../vault/index.ts'
import { rebindProof, useProof } from './store/used-proofs.ts'

/** A proof that is missing or does not count. */
export type ProofRefused = { readonly code: UserRefusal; readonly detail: string }

/** A proof that counts, by its hash, to be bound to the device; or why it does not. */
type Checked = { readonly shown?: Buffer } | { readonly refused: ProofRefused }

const refused = (code: UserRefusal, detail: string): { readonly refused: ProofRefused } => ({
  refused: { code, detail },
})

/** A proof that lives longer is as good as a password that lies around. */
const maxSeconds = 3_600
/** Clocks of two machines may differ by so much. */
const toleranceSeconds = 60

/** Proofs of who somebody is: JWTs (RFC 7519) that the app's backend signed with a key that only it and the vault know. */
export class Proofs {
  readonly #database: Database
  readonly #vault: Vault
  readonly #settings: Batcher<Scope, SettingsRow>

  constructor(database: Database, vault: Vault) {
    this.#database = database
    this.#vault = vault
    // A wave of registrations asks the same; one statement answers all that ask while another is under way.
    this.#settings = new Batcher(async (scopes) => {
      const rows = new Map<string, Promise<SettingsRow>>()
      for (const scope of scopes) {
        const place = placeOf(scope)
        if (!rows.has(place)) rows.set(place, readSettings(database, scope))
      }
      return Promise.all(scopes.map((scope) => rows.get(placeOf(scope))!))
    }, 1_000)
  }

  /** @returns the key, to be shown once; proofs signed with the one before count no longer */
  async makeKey(scope: Scope): Promise<string> {
    const key = newSecret('proof')
    await storeProofKey(this.#database, scope, this.#vault.seal(Buffer.from(key), placeOf(scope)))
    return key
  }

  /**
   * Lets a device be a user's, when the app does not ask for proofs or this one counts. A proof that was given is looked at
   * even when none was asked for. It counts for whoever shows it first.
   * @param holder who shows it
   */
  async check(scope: Scope, user: string, proof: string | undefined, holder: Buffer): Promise<Checked> {
    const { requireProof, proofKey } = await this.#settings.add(scope)
    if (proof === undefined) {
      if (!requireProof) return {}
      return refused(
        'proof-missing',
        `This app wants a proof that somebody is ${user}, in ${scope.environment}; none came.`,
      )
    }
    if (!proofKey)
      return refused('proof-key-missing', 'A proof came, but the app has no key for proofs in this environment yet.')
    const key = this.#vault.open(proofKey, placeOf(scope))
    const read = await readProof(proof, key, audienceOf(scope))
    if ('refused' in read) return read
    const { payload } = read
    if (payload.sub !== user)
      return refused('proof-other-user', `The proof is for ${payload.sub ?? 'nobody'}, not for ${user}.`)
    if ((payload.exp ?? 0) > Date.now() / 1_000 + maxSeconds + toleranceSeconds)
      return refused('proof-too-long', 'The proof lives for longer than an hour.')
    // What was signed, without the signature: that can be written in several ways.
    const shown = createHash('sha256')
      .update(`${placeOf(scope)} ${proof.slice(0, proof.lastIndexOf('.'))}`)
      .digest()
    const until = new Date(((payload.exp ?? 0) + toleranceSeconds) * 1_000)
    if (!(await useProof(this.#database, shown, holder, until)))
      return refused('proof-used', 'The proof was shown by another device before; each counts for one.')
    return { shown }
  }

  /** A proof that was shown at a registration belongs to the device that came of it, and no longer to its installation. */
  bind(shown: Buffer, before: Buffer, device: string): Promise<void> {
    return rebindProof(this.#database, shown, before, holderOf({ device }))
  }

  /** Whether a device that names a user has to show one. */
  async isRequired(scope: Scope): Promise<boolean> {
    return (await this.#settings.add(scope)).requireProof
  }
}

/** Who shows a proof: a device, or before there is one its installation. */
export const holderOf = (who: { readonly device: string } | { readonly installation: string }): Buffer =>
  createHash('sha256').update(JSON.stringify(who)).digest()

async function readProof(
  proof: string,
  key: Buffer,
  audience: string,
): Promise<{ readonly payload: JWTPayload } | { readonly refused: ProofRefused }> {
  try {
    return await jwtVerify(proof, key, {
      algorithms: ['HS256'],
      audience,
      requiredClaims: ['sub', 'exp', 'aud', 'jti'],
      clockTolerance: toleranceSeconds,
    })
  } catch (error) {
    if (error instanceof errors.JWTExpired) return refused('proof-expired', 'The proof has expired.')
    if (error instanceof errors.JWSSignatureVerificationFailed)
      return refused('proof-other-key', 'The proof was signed with another key than this app’s in this environment.')
    if (error instanceof errors.JWTClaimValidationFailed)
      return refused(
        'proof-malformed',
        `The proof has no usable ${error.claim}${error.claim === 'aud' ? `: ${audience} is wanted` : ''}.`,
      )
    if (error instanceof errors.JOSEError)
      return refused('proof-malformed', 'The proof is not a JWT signed with HS256.')
    throw error
  }
}

/** For whom a proof is (RFC 7519 §4.1.3): the app and the environment. */
const audienceOf = ({ app, environment }: Scope): string => `${app.slug}/${environment}`

/** What a sealed proof key belongs to: it opens nowhere else. */
export const proofPlace = (appNo: number, environment: string): string => `proof:${appNo}:${environment}`
const placeOf = ({ app, environment }: Scope): string => proofPlace(app.no, environment)
