import type { GatewayProfile } from '@zbell/core'
import { importJWK, SignJWT } from 'jose'
import type { Credential } from './credential.ts'
import type { Http2Origin } from './http2-origin.ts'
import { Renewed } from './renewed.ts'

/** The gateway does not take the credential. */
export class CredentialRejected extends Error {
  override readonly name = 'CredentialRejected'
}

/** Where a lane's authorization value comes from. */
export type Authorization = { readonly header: string; readonly value: Renewed<string> }

/** Tokens are renewed when a third of their life is left, so that none runs out on its way. */
const renewedPart = 2 / 3

/** @throws {CredentialRejected} when the credential is not of the kind that the profile asks for */
export function authorizationFor(
  profile: GatewayProfile,
  credential: Credential,
  origin: Http2Origin,
  audience: string,
): Authorization {
  const { authentication } = profile
  const value = (token: string) => `${authentication.scheme} ${token}`.trim()
  switch (authentication.kind) {
    case 'signed-token': {
      if (credential.kind !== 'signing-key') throw new CredentialRejected('the gateway asks for a signing-key')
      const lifeMs = authentication.lifetimeSeconds * 1_000
      return {
        header: authentication.header,
        value: new Renewed(async () => ({
          value: value(await signedToken(credential)),
          renewAtMs: Date.now() + lifeMs * renewedPart,
        })),
      }
    }
    case 'grant': {
      if (credential.kind !== 'service-key') throw new CredentialRejected('the gateway asks for a service-key')
      return {
        header: authentication.header,
        value: new Renewed(async () => {
          const { token, lifeMs } = await grantedToken(
            credential,
            origin,
            audience + authentication.tokenPath,
            authentication.tokenPath,
          )
          return { value: value(token), renewAtMs: Date.now() + lifeMs * renewedPart }
        }),
      }
    }
    default:
      return authentication satisfies never
  }
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
  origin: Http2Origin,
  audience: string,
  path: string,
): Promise<{ token: string; lifeMs: number }> {
  const key = await importJWK(credential.jwk, 'RS256')
  const assertion = await new SignJWT({ scope: credential.scope })
    .setProtectedHeader({ alg: 'RS256', kid: credential.keyId })
    .setIssuer(credential.issuer)
    .setSubject(credential.issuer)
    .setAudience(audience)
    .setIssuedAt()
    .setExpirationTime('5m')
    .sign(key)
  const form = new URLSearchParams({ grant_type: 'urn:ietf:params:oauth:grant-type:jwt-bearer', assertion })
  const answer = await origin.request(
    'POST',
    path,
    { 'content-type': 'application/x-www-form-urlencoded' },
    form.toString(),
  )
  if (answer.status !== 200) throw new CredentialRejected(`the token address answered ${answer.status}`)
  const { access_token: token, expires_in: seconds } = JSON.parse(answer.body) as {
    access_token?: unknown
    expires_in?: unknown
  }
  if (typeof token !== 'string') throw new CredentialRejected('the token address gave no access_token')
  return { token, lifeMs: (typeof seconds === 'number' ? seconds : 300) * 1_000 }
}
