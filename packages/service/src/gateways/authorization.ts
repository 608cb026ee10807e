import { type Authentication, credentialOf, type GatewayProfile, jsonField } from '@zbell/core'
import { importJWK, SignJWT } from 'jose'
import type { Credential } from '../credentials/index.ts'
import type { AddressGuard } from '../net/index.ts'
import { NoAnswer, openTransport, type Transport, type TransportOptions } from '../transport/index.ts'
import { Renewed } from './renewed.ts'
import { nameOfKey, signedToken } from './signed-token.ts'

/** The gateway does not take the credential. */
export class CredentialRejected extends Error {
  override readonly name = 'CredentialRejected'
  /** What the token address answered; 0 when it was not asked. */
  readonly status: number

  constructor(says: string, status = 0) {
    super(says)
    this.status = status
  }
}

/** Where a client's authorization value comes from. */
export type Authorization = {
  readonly header: string
  readonly value: Renewed<string>
  /** Another value after one was refused; the same when there is no other to be had. */
  anew(refused: string): Promise<string>
}

/**
 * When the token of a key was signed that everybody uses now; signed anew once it is older than so long.
 * @returns seconds since 1970
 */
export type SignedAt = (key: Buffer, atMostSeconds: number) => Promise<number>

/** For one process alone that speaks to a gateway for a while. */
export const signedNow: SignedAt = async () => Math.floor(Date.now() / 1_000)

/** Access tokens are renewed when a third of their life is left, so that none runs out on its way. */
const renewedPart = 2 / 3
/** A gateway whose clock is a little behind takes no token that it thinks is of the future. */
const leewaySeconds = 10
/** While nobody can say that another one is due, a token is used for so much of its life, and that is asked again so often. */
const usedAtMost = 0.8
const lookAgainMs = 10_000
/** Gateways take it ill when an account's tokens change more often. */
const steadySeconds = 1_200

type Asking = {
  readonly profile: GatewayProfile
  readonly credential: Credential
  /** Where the gateway itself is asked, and its origin. */
  readonly transport: Transport
  readonly gatewayOrigin: string
  /** For a token address on another origin than the gateway's. */
  readonly http: TransportOptions
  /** Which token addresses may be called: they come with the credential. */
  readonly guard: AddressGuard
  readonly signedAt: SignedAt
}

/**
 * @returns `undefined` when the connection itself says who asks
 * @throws {CredentialRejected} when the credential is not of the kind that the profile asks for
 * @throws {AddressNotAllowed}
 */
export function authorizationFor(asking: Asking): Authorization | undefined {
  const { authentication } = asking.profile
  const { credential } = asking
  if (credential.kind !== credentialOf[authentication.kind])
    throw new CredentialRejected(`the gateway asks for a ${credentialOf[authentication.kind]}`)
  switch (authentication.kind) {
    case 'client-certificate':
      return undefined
    case 'signed-token':
      return bySignedToken(authentication, credential as Credential & { kind: 'signing-key' }, asking.signedAt)
    case 'grant':
      return byGrant(authentication, credential as Credential & { kind: 'service-key' }, asking)
    default:
      return authentication satisfies never
  }
}

const inHeader = ({ scheme }: { readonly scheme: string }, token: string): string => `${scheme} ${token}`.trim()

function bySignedToken(
  authentication: Authentication & { kind: 'signed-token' },
  credential: Credential & { kind: 'signing-key' },
  signedAt: SignedAt,
): Authorization {
  const key = nameOfKey(credential)
  const halfLife = Math.floor(authentication.lifetimeSeconds / 2)
  let last: { readonly value: string; readonly sinceMs: number } | undefined
  const fetch = async (atMostSeconds: number) => {
    try {
      const seconds = await signedAt(key, atMostSeconds)
      const value = inHeader(authentication, signedToken(credential, seconds - leewaySeconds))
      if (value !== last?.value) last = { value, sinceMs: Date.now() }
      // By this process's clock, from now: the second itself is by the database's.
      return { value, renewAtMs: Date.now() + halfLife * 1_000 }
    } catch (error) {
      // The database is away, and the token at hand has a part of its life left: what is on its way goes on by it.
      if (!last || Date.now() - last.sinceMs > authentication.lifetimeSeconds * 1_000 * usedAtMost) throw error
      return { value: last.value, renewAtMs: Date.now() + lookAgainMs }
    }
  }
  const value = new Renewed(() => fetch(halfLife))
  return {
    header: authentication.header,
    value,
    async anew(refused) {
      const fresh = await fetch(Math.min(halfLife, steadySeconds))
      if (fresh.value !== refused) value.drop(refused)
      return fresh.value
    },
  }
}

function byGrant(
  authentication: Authentication & { kind: 'grant' },
  credential: Credential & { kind: 'service-key' },
  { transport, gatewayOrigin, http, guard }: Asking,
): Authorization {
  const { tokenPath, scope: defaultScope } = authentication
  const given = credential.tokenAddress ?? (tokenPath === undefined ? undefined : gatewayOrigin + tokenPath)
  const scope = credential.scope ?? defaultScope
  if (given === undefined)
    throw new CredentialRejected('neither the credential nor the profile says where tokens are got')
  const address = new URL(given)
  const isGateways = address.origin === gatewayOrigin
  if (!isGateways) guard.check(address)
  const tokens = isGateways
    ? transport
    : openTransport(address.origin, { ...http, http: 'either', lookup: guard.lookup })
  const value = new Renewed(async () => {
    const { token, lifeMs } = await grantedToken(credential, scope, tokens, address)
    return { value: inHeader(authentication, token), renewAtMs: Date.now() + lifeMs * renewedPart }
  })
  return {
    header: authentication.header,
    value,
    anew(refused) {
      value.drop(refused)
      return value.get()
    },
  }
}

/** RFC 7523 §2.1: a signed assertion for an access token. */
async function grantedToken(
  credential: Credential & { kind: 'service-key' },
  scope: string | undefined,
  origin: Transport,
  address: URL,
): Promise<{ token: string; lifeMs: number }> {
  const key = await importJWK(credential.jwk, 'RS256')
  const assertion = await new SignJWT(scope === undefined ? {} : { scope })
    .setProtectedHeader({ alg: 'RS256', kid: credential.keyId })
    .setIssuer(credential.issuer)
    .setSubject(credential.issuer)
    .setAudience(address.href)
    .setIssuedAt()
    .setExpirationTime('5m')
    .sign(key)
  const form = new URLSearchParams({ grant_type: 'urn:ietf:params:oauth:grant-type:jwt-bearer', assertion })
  const type = { 'content-type': 'application/x-www-form-urlencoded' }
  const answer = await origin.request({
    method: 'POST',
    path: address.pathname + address.search,
    headers: type,
    body: form.toString(),
    reads: 'everything',
  }).answer
  // RFC 6749 §5.2: 400 and 401 mean the credential; anything else is trouble of the address itself.
  if (answer.status === 400 || answer.status === 401 || answer.status === 403) {
    throw new CredentialRejected(`the token address answered ${answer.status}`, answer.status)
  }
  const token = answer.status === 200 ? jsonField(answer.body, '/access_token') : undefined
  if (typeof token !== 'string') throw new NoAnswer(address.origin, 'NO_TOKEN')
  const seconds = jsonField(answer.body, '/expires_in')
  return { token, lifeMs: (typeof seconds === 'number' ? seconds : 300) * 1_000 }
}
