import type { credentialRequest } from '@zbell/contract'
import type { z } from 'zod'
import type { Credential } from './credential.ts'
import { type Beside, besideKey, checkAccount, type ProfileWords } from './key-file.ts'
import type { CredentialKind, Recognised } from './recognise.ts'
import type { NewCredential } from './store/credentials.ts'

/** What was added: files, and what was said beside them. */
export type Added = z.output<typeof credentialRequest>

/** Something that a recognised key wants beside it, by the name of its field or `facts/NAME`; perhaps what looks like it. */
type Missing = { readonly name: string; readonly looksLike?: string | undefined; readonly optional?: true }

/** A recognised key wants more words before it can sign. */
export class ExtrasMissing extends Error {
  override readonly name = 'ExtrasMissing'
  readonly missing: readonly Missing[]
  readonly kind: CredentialKind

  constructor(kind: CredentialKind, missing: readonly Missing[]) {
    super(`a ${kind} wants ${missing.map(({ name }) => name).join(' and ')}`)
    this.kind = kind
    this.missing = missing
  }
}

/** What of a credential is no secret. */
export type Shown = Pick<
  NewCredential,
  'facts' | 'fingerprint' | 'subject' | 'serial' | 'keyId' | 'issuer' | 'notBefore' | 'notAfter'
>
export const nothingShown: Shown = {
  facts: null,
  fingerprint: null,
  subject: null,
  serial: null,
  keyId: null,
  issuer: null,
  notBefore: null,
  notAfter: null,
}

export function shownOf(found: Exclude<Recognised, { is: 'certificate' }>, secret: Credential): Shown {
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

/**
 * What is sealed, and what is known of its account.
 * @throws {ExtrasMissing} @throws {CredentialRefused}
 */
export function secretOf(
  found: Exclude<Recognised, { is: 'certificate' }>,
  added: Added,
  profile: ProfileWords | undefined,
): { secret: Credential; facts: Record<string, string> | null } {
  if (found.is === 'client-certificate') {
    const facts = added.facts ?? {}
    checkAccount(facts, profile?.facts)
    requireAll(found.is, {}, [], factsMissing(facts, profile))
    return { secret: { kind: found.is, key: found.key, certificates: found.certificates }, facts: orNull(facts) }
  }
  const { facts, guesses: written, ...beside } = besideKey(found.privateKey, found.file, added, profile)
  const named = keyIdInName(added.files.map(({ name }) => name ?? ''))
  const guesses = named === undefined ? written : { keyId: named, ...written }
  const given = { ...beside, keyId: beside.keyId ?? found.keyId, subject: added.subject }
  const need = <Name extends keyof typeof given>(...names: Name[]) =>
    requireAll(found.is, given, names, factsMissing(facts, profile), guesses)
  const { jwk } = found
  switch (found.is) {
    case 'signing-key': {
      const { keyId, issuer } = need('keyId', 'issuer')
      return { secret: { kind: 'signing-key', jwk, keyId, issuer }, facts: orNull(facts) }
    }
    case 'service-key': {
      const { authentication } = profile ?? {}
      const grant = authentication?.kind === 'grant' ? authentication : undefined
      const { keyId, issuer } = need(
        'keyId',
        'issuer',
        ...(grant?.scope === undefined ? (['scope'] as const) : []),
        ...(grant && grant.tokenPath === undefined ? (['tokenAddress'] as const) : []),
      )
      const { scope, tokenAddress } = given
      const more = {
        ...(scope === undefined ? {} : { scope }),
        ...(tokenAddress === undefined ? {} : { tokenAddress }),
      }
      return { secret: { kind: 'service-key', jwk, keyId, issuer, ...more }, facts: orNull(facts) }
    }
    case 'vapid-key': {
      const { subject } = need('subject')
      return { secret: { kind: 'vapid-key', jwk, subject }, facts: null }
    }
    default:
      return found satisfies never
  }
}

/** What in a file's name looks like the id of a key, as platforms put it there: capital letters and digits. */
function keyIdInName(names: readonly string[]): string | undefined {
  const parts = names.flatMap((name) => name.split(/[^A-Za-z0-9]+/))
  return parts.find((part) => /^(?=.*\d)[A-Z0-9]{8,40}$/.test(part))
}

export const orNull = (facts: Record<string, string>) => (Object.keys(facts).length === 0 ? null : facts)

/** Facts that the profile's request cannot do without, and that nobody has said. */
const factsMissing = (facts: Readonly<Record<string, string>>, profile: ProfileWords | undefined): Missing[] =>
  (profile?.spokenOf ?? [])
    .filter((name) => facts[name] === undefined && profile?.facts?.[name] === undefined)
    .map((name) => ({ name: `facts/${name}` }))

/** @throws {ExtrasMissing} */
function requireAll<Name extends string>(
  kind: CredentialKind,
  given: { readonly [N in Name]?: string | undefined },
  names: readonly Name[],
  facts: readonly Missing[],
  guesses: Beside['guesses'] = {},
): Record<Name, string> {
  const guess = (name: string) => (guesses as Record<string, string | undefined>)[name]
  const missing = names.filter((name) => !given[name]).map((name) => ({ name, looksLike: guess(name) }))
  if (missing.length + facts.length === 0) return given as Record<Name, string>
  // Nobody has to say it; but whoever is asked anyway may want to.
  const tokenAddress = guess('tokenAddress')
  const also =
    tokenAddress === undefined || names.includes('tokenAddress' as Name)
      ? []
      : [{ name: 'tokenAddress', looksLike: tokenAddress, optional: true as const }]
  throw new ExtrasMissing(kind, [...missing, ...facts, ...also])
}
