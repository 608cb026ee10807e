import type { GatewayTrial } from '@zbell/contract'
import { isHandsetAddress, isUuid, type Outcome, type Platform, ProfileAtFault, sayReason } from '@zbell/core'
import type { Api } from '../api/index.ts'
import { Problem } from '../base/index.ts'
import { credentialInUse } from '../credentials/index.ts'
import type { Database, Scope } from '../database/index.ts'
import { findDevice } from '../devices/index.ts'
import type { Address, Sendable } from '../engine/index.ts'
import { AddressNotAllowed } from '../net/index.ts'
import { NoAnswer } from '../transport/index.ts'
import { CredentialRejected } from './authorization.ts'
import { impossibleToken, sample } from './check-credential.ts'
import type { GatewayRegistry } from './gateways.ts'
import type { Protocol, Trial } from './kept-client.ts'
import { maskValue } from './recorder.ts'
import { gatewayPlace, inProfileWords, profilePlace } from './routes.ts'

/** Shows the exact request that would go out, and sends it when it is asked to. */
export function serveGatewayTrials(api: Api, database: Database, gateways: GatewayRegistry): void {
  api.serve('tryGateway', async ({ caller: { scope }, params, body }) => {
    const place = gatewayPlace(scope, params.platform)
    const text = body.profile
    const written =
      text === undefined
        ? undefined
        : await inProfileWords(() => gateways.profiles.written(profilePlace(scope, params.platform), text))
    const { platform } = place
    const address = await addressFor(database, scope, platform, body.device)
    const notification = sample(Date.now())
    const content = {
      ...notification.content,
      ...body.content,
      title: body.content.title ?? notification.content.title,
    }
    const given = { ...notification, content }
    return inTrialWords(async () => {
      const row = await credentialInUse(database, scope.app.no, scope.environment, platform)
      const rehearsal = isHandsetAddress(address.token)
      // What is only looked at is shown while one writes, long before there is a credential.
      const used = written ?? (platform === 'web' || rehearsal ? undefined : await gateways.profiles.of(place))
      if (used && !body.send) return trialView(await gateways.inspector.sketch(scope.app, place, used, given, address))
      if (!row && !rehearsal) throw new Problem('gateway-not-ready', sayReason('no-credential'))
      const protocol = await (row && !rehearsal
        ? gateways.opener.openProtocol(row, written)
        : gateways.opener.openRehearsal(scope.app, scope.environment, platform))
      if (typeof protocol === 'string') throw new Problem('gateway-not-ready', sayReason(protocol))
      return tried(protocol, given, address, body.send)
    })
  })
}

async function tried(protocol: Protocol, given: Sendable, address: Address, send: boolean): Promise<GatewayTrial> {
  try {
    return trialView(await protocol.trial(given, address, send))
  } finally {
    await protocol.close()
  }
}

async function inTrialWords<T>(act: () => Promise<T>): Promise<T> {
  try {
    return await act()
  } catch (error) {
    if (error instanceof CredentialRejected) throw new Problem('gateway-not-ready', sayReason('credential-rejected'))
    if (error instanceof NoAnswer) throw new Problem('gateway-not-ready', `The gateway gave no answer (${error.code}).`)
    if (error instanceof AddressNotAllowed) throw new Problem('gateway-not-ready', sayReason('address-not-allowed'))
    if (error instanceof ProfileAtFault)
      throw new Problem('profile-refused', `The profile makes no request: ${error.message}.`)
    throw error
  }
}

async function addressFor(
  database: Database,
  scope: Scope,
  platform: Platform,
  id: string | undefined,
): Promise<Address> {
  if (id === undefined) {
    if (platform === 'web')
      throw new Problem('invalid-request', 'The web has no gateway of its own: name a device.', [
        { pointer: '/device', detail: 'is needed for the web' },
      ])
    return { token: impossibleToken(), p256dh: null, auth: null }
  }
  const device = isUuid(id) ? await findDevice(database, scope, id) : undefined
  if (!device) throw new Problem('unknown-device')
  if (device.platform !== platform)
    throw new Problem('invalid-request', `This device is not an ${platform} device.`, [
      { pointer: '/device', detail: `is a device of ${device.platform}` },
    ])
  return device
}

function trialView({ request, answer, outcome, secretHeader }: Trial): GatewayTrial {
  const isSecret = (name: string) => /^authorization$/i.test(name) || name.toLowerCase() === secretHeader
  const masked = Object.entries(request.headers).map(([name, value]) => [
    name,
    isSecret(name) ? maskValue(value) : value,
  ])
  return {
    request: {
      ...request,
      headers: Object.fromEntries(masked) as Record<string, string>,
      bodyBytes: Buffer.byteLength(request.body),
    },
    answer:
      answer && outcome
        ? {
            status: answer.status,
            headers: Object.fromEntries(
              Object.entries(answer.headers).flatMap(([name, value]) =>
                typeof value === 'string' ? [[name, value]] : [],
              ),
            ),
            body: answer.body.slice(0, 4_000),
            outcome: outcome.is === 'refused' ? outcome.reason : outcome.is,
            says: sayOutcome(outcome),
          }
        : null,
  }
}

function sayOutcome(outcome: Outcome): string {
  switch (outcome.is) {
    case 'accepted':
      return 'The gateway accepted it.'
    case 'busy':
      return 'The gateway is busy; a delivery would be tried again.'
    case 'unavailable':
      return 'The gateway is in trouble; a delivery would be tried again.'
    case 'token-gone':
      return 'The gateway accepted the credential, but knows no such token.'
    case 'refused':
      return sayReason(outcome.reason)
    default:
      return outcome satisfies never
  }
}
