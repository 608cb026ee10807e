import type { Gateway } from '@zbell/contract'
import {
  credentialOf,
  declarativeMessage,
  type Environment,
  maxPlaintextBytes,
  type Platform,
  ProfileAtFault,
} from '@zbell/core'
import { type CredentialRow, credentialInUse } from '../credentials/index.ts'
import type { AppRow, Database, GatewayPlace } from '../database/index.ts'
import type { Address, Sendable } from '../engine/index.ts'
import { openTransports } from '../transport/index.ts'
import type { Trial } from './kept-client.ts'
import { ProfileProtocol } from './profile-protocol.ts'
import type { Profiles, UsedProfile } from './profiles.ts'
import { profilesInPlace } from './store/profiles.ts'

/** What stands for a notification and a token while a message is measured. */
const sampleId = '018bcfe5-6800-7fff-bfff-ffffffffffff'
const sampleToken = 't'.repeat(160)

/** What is known of gateways without asking them anything. */
export class GatewayInspector {
  readonly #database: Database
  readonly #profiles: Profiles

  constructor(database: Database, profiles: Profiles) {
    this.#database = database
    this.#profiles = profiles
  }

  /** From which day on an app's gateway is no longer spoken to as its profile says. */
  async outdatedFrom(place: GatewayPlace): Promise<string | null> {
    return (await this.#profiles.of(place))?.profile.outdatedFrom ?? null
  }

  /** What is known of an app's gateway. */
  async describe(place: GatewayPlace): Promise<Gateway> {
    const { platform, environment } = place
    if (platform === 'web') return { ...nothingKnown, platform, asksFor: 'vapid-key', bodyBytes: maxPlaintextBytes }
    const [found, rows] = await Promise.all([this.#profiles.of(place), profilesInPlace(this.#database, place)])
    const waiting = rows.find(({ slot }) => slot === 'waiting')?.version ?? null
    if (!found) return { ...nothingKnown, platform, waiting }
    const { profile, version } = found
    return {
      platform,
      profile: profile.profile,
      version,
      waiting,
      origin: found.origins(environment)[0] ?? null,
      asksFor: credentialOf[profile.authentication.kind],
      bodyBytes: profile.limits.bodyBytes,
      outdatedFrom: profile.outdatedFrom ?? null,
    }
  }

  /** How large a message would be at a platform's gateway, with a token of the usual length. */
  async measure(
    { app, environment }: { readonly app: AppRow; readonly environment: Environment },
    platform: Platform,
    message: Pick<Sendable, 'content' | 'mode' | 'urgency' | 'ttlSeconds'>,
  ): Promise<{ readonly bytes: number; readonly limitBytes: number | null }> {
    const identifier = app.identifiers[platform] ?? ''
    if (platform === 'web') {
      const text = JSON.stringify(declarativeMessage(sampleId, message.content, message.mode, identifier))
      return { bytes: Buffer.byteLength(text), limitBytes: maxPlaintextBytes }
    }
    const place = { appNo: app.no, environment, platform }
    const found = await this.#profiles.of(place)
    const bare = { bytes: Buffer.byteLength(JSON.stringify(message.content)), limitBytes: null }
    if (!found || found.origins(environment).length === 0) return bare
    const row = await credentialInUse(this.#database, app.no, environment, platform)
    try {
      const fact = sampleFacts(found, row)
      const shaped = await found.shaper.shape({
        ...message,
        notification: sampleId,
        expiresSeconds: 1,
        identifier,
        fact,
      })
      return { bytes: Buffer.byteLength(shaped.body(sampleToken)), limitBytes: found.profile.limits.bodyBytes }
    } catch (error) {
      // Sending meets the same again and says so; what is looked at here is how large it would be.
      if (error instanceof ProfileAtFault) return bare
      throw error
    }
  }

  /** What a request would look like without a credential: what says who asks is left out, facts that are missing are made up. */
  async sketch(
    app: AppRow,
    { appNo, environment, platform }: GatewayPlace,
    profile: UsedProfile,
    given: Sendable,
    address: Address,
  ): Promise<Trial> {
    const row = await credentialInUse(this.#database, appNo, environment, platform)
    const transport = openTransports(profile.origins(environment), { ca: [], timeoutMs: 1_000 })
    const facts = sampleFacts(profile, row)
    const identifier = app.identifiers[platform] ?? ''
    return new ProfileProtocol({ ready: profile, authorization: undefined, transport, identifier, facts }).trial(
      given,
      address,
      false,
    )
  }
}

const nothingKnown: Omit<Gateway, 'platform'> = {
  profile: null,
  version: null,
  waiting: null,
  origin: null,
  asksFor: null,
  bodyBytes: null,
  outdatedFrom: null,
}

/** What a request is measured and looked at with, before an account has said all its facts. */
const sampleFacts = (
  { profile, facts }: UsedProfile,
  row: Pick<CredentialRow, 'facts'> | undefined,
): Record<string, string> => ({
  ...Object.fromEntries(facts.map((name) => [name, name])),
  ...profile.facts,
  ...row?.facts,
})
