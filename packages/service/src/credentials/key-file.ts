import type { KeyObject } from 'node:crypto'
import {
  type GatewayProfile,
  guessKeyFile,
  type KeyFileFacts,
  type KeyFileField,
  keyFileFields,
  readKeyFile,
} from '@zbell/core'
import type { JWK } from 'jose'
import { CredentialRefused } from './refusals.ts'

/** What a platform's profile has to say about credentials. */
export type ProfileWords = Pick<GatewayProfile, 'authentication' | 'keyFile' | 'facts'> & {
  /** Facts that its request cannot do without. */
  readonly spokenOf: readonly string[]
}

/** What was given by hand beside the files. */
export type ByHand = Partial<Readonly<Record<KeyFileField, string | undefined>>> & {
  readonly facts?: Readonly<Record<string, string>> | undefined
}

/** What stands beside a key: by hand before what its file says. */
export type Beside = KeyFileFacts & {
  /** For what is still missing: what in the file looks like it. */
  readonly guesses: Partial<Readonly<Record<KeyFileField, string>>>
}

/** As long as each may be when it is given by hand. */
const maxCharacters: Readonly<Record<KeyFileField, number>> = {
  keyId: 100,
  issuer: 200,
  tokenAddress: 300,
  scope: 300,
}

/**
 * Puts together what is known beside a key.
 * @param file what a JSON file says that the key was in
 * @throws {CredentialRefused} for what cannot be meant
 */
export function besideKey(key: KeyObject, file: unknown, hand: ByHand, profile: ProfileWords | undefined): Beside {
  const own = file === undefined || !profile?.keyFile ? undefined : readKeyFile(file, profile.keyFile)
  for (const [name, says] of own?.faults ?? [])
    throw new CredentialRefused('unreadable-place', { at: pointerOf(name), says: `${says}.` })
  const fields = keyFileFields.flatMap((name) => {
    const value = hand[name] ?? own?.found[name]
    return value === undefined ? [] : [[name, value] as const]
  })
  for (const [name, value] of fields)
    if (value.length > maxCharacters[name])
      throw new CredentialRefused('unreadable-place', {
        at: `/${name}`,
        says: `What stands for the ${name} has more than ${maxCharacters[name]} characters.`,
      })
  const facts = { ...own?.found.facts, ...hand.facts }
  for (const [name, value] of [...fields, ...Object.entries(facts).map(([n, v]) => [`fact.${n}`, v] as const)])
    checkNoSecret(name, value, key)
  const { tokenAddress } = Object.fromEntries(fields)
  if (tokenAddress !== undefined && !isHttps(tokenAddress))
    throw new CredentialRefused('unreadable-place', {
      at: '/tokenAddress',
      says: 'What stands for the token address is no https address.',
    })
  checkAccount(facts, profile?.facts)
  const guesses = Object.fromEntries(
    Object.entries(file === undefined || profile?.keyFile ? {} : guessKeyFile(file)).filter(
      ([, value]) => !holdsKey(value, key),
    ),
  )
  return { ...Object.fromEntries(fields), facts, guesses }
}

/** @throws {CredentialRefused} when a credential is another account's than the profile speaks of */
export function checkAccount(facts: Readonly<Record<string, string>>, fixed: GatewayProfile['facts']): void {
  for (const [name, value] of Object.entries(fixed ?? {}))
    if (facts[name] !== undefined && facts[name] !== value)
      throw new CredentialRefused('another-account', {
        at: `/facts/${name}`,
        says: `This belongs to another account: its ${name} is ${facts[name]}, and the gateway profile says ${value}.`,
      })
}

const pointerOf = (name: string): string => `/${name.replace(/^fact\./, 'facts/')}`

function checkNoSecret(name: string, value: string, key: KeyObject): void {
  if (!/PRIVATE KEY/.test(value) && !holdsKey(value, key)) return
  throw new CredentialRefused('secret-in-place', {
    at: pointerOf(name),
    says: `What stands for ${name.replace('.', ' ')} is the private key itself, or a part of it.`,
  })
}

/** So much of a key in another place is no chance. */
const tellingCharacters = 24

/** Whether a text holds a part of a private key, in one of the forms in which keys are written down. */
function holdsKey(value: string, key: KeyObject): boolean {
  const bare = value.replace(/\s|\\n/g, '')
  if (bare.length < tellingCharacters) return false
  const jwk = key.export({ format: 'jwk' }) as JWK
  const forms = [
    key.export({ type: 'pkcs8', format: 'der' }).toString('base64'),
    key.export({ type: key.asymmetricKeyType === 'rsa' ? 'pkcs1' : 'sec1', format: 'der' } as never).toString('base64'),
    ...[jwk.d, jwk.p, jwk.q].flatMap((part) => part ?? []),
  ]
  for (let at = 0; at + tellingCharacters <= bare.length; at++)
    if (forms.some((form) => form.includes(bare.slice(at, at + tellingCharacters)))) return true
  return false
}

const isHttps = (text: string): boolean => URL.canParse(text) && new URL(text).protocol === 'https:'
