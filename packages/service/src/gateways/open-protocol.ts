import type { Reason } from '@zbell/core'
import { type Credential, vapidKeyOf } from '../credentials/index.ts'
import { type AddressGuard, AddressNotAllowed, anywhere } from '../net/index.ts'
import { openTransports, type TransportOptions } from '../transport/index.ts'
import { authorizationFor, CredentialRejected, type SignedAt, signedNow } from './authorization.ts'
import type { Protocol } from './kept-client.ts'
import { ProfileProtocol } from './profile-protocol.ts'
import type { ReadyProfile } from './ready-profile.ts'
import { WebPushProtocol } from './web-push-protocol.ts'

type ProtocolSetup = {
  readonly ready: ReadyProfile
  /** One at least; the next is asked when one is away. */
  readonly origins: readonly string[]
  readonly credential: Credential
  /** Facts of the account beside the credential. */
  readonly facts?: Readonly<Record<string, string>>
  readonly identifier: string
  readonly http: TransportOptions
  /** Which addresses may be called that come with the credential. */
  readonly tokenGuard?: AddressGuard
  readonly signedAt?: SignedAt
}

/** The way to a gateway that a profile describes. @returns the reason when the credential is not what it asks for */
export function openProfileProtocol(given: ProtocolSetup): Protocol | Reason {
  const { ready, origins, credential, facts = {}, identifier, tokenGuard = anywhere, signedAt = signedNow } = given
  const { profile, guard } = ready
  const all = { ...profile.facts, ...facts }
  if (ready.facts.some((name) => !Object.hasOwn(all, name))) return 'missing-fact'
  const http: TransportOptions = {
    ...given.http,
    ca: [...given.http.ca, ...ready.ca],
    http: profile.http,
    lookup: guard.lookup,
  }
  const client =
    credential.kind === 'client-certificate'
      ? { cert: credential.certificates.join('\n'), key: credential.key }
      : undefined
  try {
    const addresses = origins.map((one) => new URL(one))
    for (const address of addresses) guard.check(address)
    const transport = openTransports(
      addresses.map(({ origin }) => origin),
      { ...http, client },
    )
    const gatewayOrigin = addresses[0]!.origin
    const asking = { profile, credential, transport, gatewayOrigin, http, guard: tokenGuard, signedAt }
    const authorization = authorizationFor(asking)
    return new ProfileProtocol({ ready, authorization, transport, identifier, facts: all })
  } catch (error) {
    if (error instanceof CredentialRejected) return 'no-credential'
    if (error instanceof AddressNotAllowed) return 'address-not-allowed'
    throw error
  }
}

/** The way to browsers' push services. */
export function openWebProtocol(
  credential: Credential,
  given: { webOrigin: string; guard: AddressGuard; http: TransportOptions; inFlight: number },
): Protocol | Reason {
  if (credential.kind !== 'vapid-key') return 'no-credential'
  return new WebPushProtocol({ key: vapidKeyOf(credential.jwk), subject: credential.subject, ...given })
}
