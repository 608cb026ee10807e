import type { GatewayProfile, Reason, RequestShaper } from '@zbell/core'
import type { AddressGuard } from './address-guard.ts'
import { authorizationFor, CredentialRejected } from './authorization.ts'
import { type Credential, vapidKeyOf } from './credential.ts'
import { Http2Origin, type OriginOptions } from './http2-origin.ts'
import type { Way } from './kept-lane.ts'
import { ProfileLane } from './profile-lane.ts'
import { WebPushLane } from './web-push-lane.ts'

/** A profile that is ready for use. */
export type ReadyProfile = {
  readonly profile: GatewayProfile
  readonly shaper: RequestShaper
  /** Certificates to trust for this gateway besides the others; PEM. */
  readonly ca: readonly string[]
}

/** The way to a gateway that a profile describes. @returns the reason when the credential is not what it asks for */
export function openProfileWay(
  { profile, shaper, ca }: ReadyProfile,
  address: string,
  credential: Credential,
  identifier: string,
  http: OriginOptions,
): Way | Reason {
  const gatewayOrigin = new URL(address).origin
  const client =
    credential.kind === 'client-certificate'
      ? { cert: credential.certificates.join('\n'), key: credential.key }
      : undefined
  const trusting = { ...http, ca: [...http.ca, ...ca] }
  const origin = new Http2Origin(gatewayOrigin, { ...trusting, client })
  try {
    const authorization = authorizationFor(profile, credential, origin, gatewayOrigin, trusting)
    return new ProfileLane({ profile, shaper, authorization, origin, identifier })
  } catch (error) {
    if (error instanceof CredentialRejected) return 'no-credential'
    throw error
  }
}

/** The way to browsers' push services. */
export function openWebWay(
  credential: Credential,
  given: { webOrigin: string; guard: AddressGuard; http: OriginOptions },
): Way | Reason {
  if (credential.kind !== 'vapid-key') return 'no-credential'
  return new WebPushLane({ key: vapidKeyOf(credential.jwk), subject: credential.subject, ...given })
}
