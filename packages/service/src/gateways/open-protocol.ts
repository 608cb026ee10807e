import type { GatewayProfile, Reason, RequestShaper } from '@zbell/core'
import type { AddressGuard } from './address-guard.ts'
import { authorizationFor, CredentialRejected } from './authorization.ts'
import { type Credential, vapidKeyOf } from './credential.ts'
import type { Protocol } from './kept-lane.ts'
import { ProfileProtocol } from './profile-protocol.ts'
import { openTransport } from './transport/open-transport.ts'
import type { TransportOptions } from './transport/transport.ts'
import { WebPushProtocol } from './web-push-protocol.ts'

/** A profile that is ready for use. */
export type ReadyProfile = {
  readonly profile: GatewayProfile
  readonly shaper: RequestShaper
  /** Certificates to trust for this gateway besides the others; PEM. */
  readonly ca: readonly string[]
}

/** The way to a gateway that a profile describes. @returns the reason when the credential is not what it asks for */
export function openProfileProtocol(
  { profile, shaper, ca }: ReadyProfile,
  address: string,
  credential: Credential,
  identifier: string,
  http: TransportOptions,
): Protocol | Reason {
  const gatewayOrigin = new URL(address).origin
  const client =
    credential.kind === 'client-certificate'
      ? { cert: credential.certificates.join('\n'), key: credential.key }
      : undefined
  const trusting = { ...http, ca: [...http.ca, ...ca] }
  const origin = openTransport(gatewayOrigin, { ...trusting, client })
  try {
    const authorization = authorizationFor(profile, credential, origin, gatewayOrigin, trusting)
    return new ProfileProtocol({ profile, shaper, authorization, origin, identifier })
  } catch (error) {
    if (error instanceof CredentialRejected) return 'no-credential'
    throw error
  }
}

/** The way to browsers' push services. */
export function openWebProtocol(
  credential: Credential,
  given: { webOrigin: string; guard: AddressGuard; http: TransportOptions },
): Protocol | Reason {
  if (credential.kind !== 'vapid-key') return 'no-credential'
  return new WebPushProtocol({ key: vapidKeyOf(credential.jwk), subject: credential.subject, ...given })
}
