import { type GatewayProfile, jsonField } from '@zbell/core'
import { importJWK, SignJWT } from 'jose'
import type { Credential } from './credential.ts'
import { Renewed } from './renewed.ts'
import { openTransport } from './transport/open-transport.ts'
import { NoAnswer, type Transport, type TransportOptions } from './transport/transport.ts'

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

/** Where a lane's authorization value comes from. */
export type Authorization = { readonly header: string; readonly value: Renewed<string> }

/** Tokens are renewed when a third of their life is left, so that none runs out on its way. */
const renewedPart = 2 / 3

/**
 * @param http for a token address on another origin than the gateway's
 * @returns `undefined` when the connection itself says who asks
 * @throws {CredentialRejected} when the credential is not of the kind that the profile asks for
 */
export function authorizationFor(
  profile: GatewayProfile,
  credential: Credential,
  origin: Transport,
  gatewayOrigin: string,
  http: TransportOptions,
): Authorization | undefined {
  const { authentication } = profile
  if (authentication.kind === 'client-certificate') {
    if (credential.kind !== 'client-certificate')
      throw new CredentialRejected('the gateway asks for a client-certificate')
    return undefined
  }
  const value = (token: string) => `${authentication.scheme} ${token}`.trim()
  if (authentication.kind === 'signed-token') {
    if (credential.kind !== 'signing-key') throw new CredentialRejected('the gateway asks for a signing-key')
    const lifeMs = authentication.lifetimeSeconds * 1_000
    const fetch = async () => ({
      value: value(await signedToken(credential)),
      renewAtMs: Date.now() + lifeMs * renewedPart,
    })
    return { header: authentication.header, value: new Renewed(fetch) }
  }
  if (credential.kind !== 'service-key') throw new CredentialRejected('the gateway asks for a service-key')
  const address = new URL(credential.tokenAddress ?? gatewayOrigin + authentication.tokenPath)
  const tokens = address.origin === gatewayOrigin ? origin : openTransport(address.origin, http)
  const fetch = async () => {
    const { token, lifeMs } = await grantedToken(credential, tokens, address)
    return { value: value(token), renewAtMs: Date.now() + lifeMs * renewedPart }
  }
  return { header: authentication.header, value: new Renewed(fetch) }
}

async function signedToken(credential: Credential & { kind: 'signing-key' }): Promise<string> {
  const key = await importJWK(credential.jwk, 'ES256')
  return new SignJWT()
    .setProtectedHeader({ alg: 'ES256', kid: credential.keyId })
    .setIssuer(credential.issuer)
    .setIssuedAt()
    .sign(key)
}

/** RFC 7523 §2.1: a signed assertion for an access token. */
async function grantedToken(
  credential: Credential & { kind: 'service-key' },
  origin: Transport,
  address: URL,
): Promise<{ token: string; lifeMs: number }> {
  const key = await importJWK(credential.jwk, 'RS256')
  const assertion = await new SignJWT({ scope: credential.scope })
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
