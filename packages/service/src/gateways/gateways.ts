import { readFileSync } from 'node:fs'
import { rootCertificates } from 'node:tls'
import { type Environment, type GatewayProfile, type Platform, type Reason, RequestShaper } from '@zbell/core'
import { ConfigError } from '../config/load.ts'
import type { Config } from '../config/options.ts'
import type { Gateways, Lane } from '../engine/ports.ts'
import { findAppByNo } from '../store/apps/apps.ts'
import { findCredential } from '../store/apps/credentials.ts'
import type { Database } from '../store/database.ts'
import type { Vault } from '../vault/vault.ts'
import { authorizationFor, CredentialRejected } from './authorization.ts'
import { type Credential, credentialPlace, vapidKeyOf } from './credential.ts'
import { Http2Origin } from './http2-origin.ts'
import { loadProfile } from './load-profile.ts'
import { ProfileLane } from './profile-lane.ts'
import { Places } from './slots.ts'
import { WebPushLane } from './web-push-lane.ts'

/** How long a lane is used before a look whether its credential changed. */
const freshForMs = 2_000

type Kept = {
  readonly lane: Lane | Reason
  readonly fingerprint: string
  readonly close: () => Promise<void>
  checkAtMs: number
}

/** All ways to all gateways, opened when first needed and kept. */
export class GatewayRoom implements Gateways {
  readonly #config: Config
  readonly #database: Database
  readonly #vault: Vault
  readonly #profiles: ReadonlyMap<Platform, { profile: GatewayProfile; shaper: RequestShaper; origin: string }>
  readonly #ca: readonly string[]
  readonly #lanes = new Map<string, Kept>()

  /** @throws {ConfigError} when a profile or the file of certificates cannot be used */
  constructor(config: Config, database: Database, vault: Vault) {
    this.#config = config
    this.#database = database
    this.#vault = vault
    this.#ca = [...rootCertificates, ...extraCertificates(config['gateways.trustCa'])]
    this.#profiles = new Map(
      (['ios', 'android'] as const).flatMap((platform) => {
        const file = config[`gateways.${platform}.profile`]
        if (file === '') return []
        const profile = loadProfile(file)
        if (profile.platform !== platform)
          throw new ConfigError(`${file}: this profile is for ${profile.platform}, not for ${platform}`)
        return [
          [
            platform,
            { profile, shaper: new RequestShaper(profile), origin: config[`gateways.${platform}.origin`] },
          ] as const,
        ]
      }),
    )
  }

  async lane(appNo: number, environment: Environment, platform: Platform): Promise<Lane | Reason> {
    const name = `${appNo}:${environment}:${platform}`
    const kept = this.#lanes.get(name)
    const nowMs = Date.now()
    if (kept && kept.checkAtMs > nowMs) return kept.lane
    const row = await findCredential(this.#database, appNo, environment, platform)
    const fingerprint = row?.fingerprint ?? ''
    if (kept && kept.fingerprint === fingerprint) {
      kept.checkAtMs = nowMs + freshForMs
      return kept.lane
    }
    const opened = row
      ? await this.#open(appNo, environment, platform, row.sealed)
      : { lane: 'no-credential' as const, close: async () => {} }
    this.#lanes.set(name, { ...opened, fingerprint, checkAtMs: nowMs + freshForMs })
    void kept?.close()
    return opened.lane
  }

  async #open(
    appNo: number,
    environment: Environment,
    platform: Platform,
    sealed: Buffer,
  ): Promise<Pick<Kept, 'lane' | 'close'>> {
    const none = async () => {}
    const app = await findAppByNo(this.#database, appNo)
    const credential = JSON.parse(
      this.#vault.open(sealed, credentialPlace(appNo, environment, platform)).toString(),
    ) as Credential
    const http = { ca: this.#ca, timeoutMs: this.#config['gateways.timeoutMs'] }
    const slots = new Places(this.#config['gateways.inFlight'])
    if (platform === 'web') {
      if (credential.kind !== 'vapid-key') return { lane: 'credential-rejected', close: none }
      const lane = new WebPushLane({
        key: vapidKeyOf(credential.jwk),
        subject: credential.subject,
        webOrigin: app?.identifiers.web ?? '',
        allowPrivate: this.#config['gateways.allowPrivateAddresses'],
        http,
        slots,
      })
      return { lane, close: () => lane.close() }
    }
    const found = this.#profiles.get(platform)
    const address = found && (found.origin || found.profile.origins[environment])
    if (!found || !address) return { lane: 'no-gateway', close: none }
    const origin = new Http2Origin(new URL(address).origin, http)
    try {
      const { profile, shaper } = found
      const authorization = authorizationFor(profile, credential, origin, new URL(address).origin)
      const lane = new ProfileLane({
        profile,
        shaper,
        authorization,
        origin,
        identifier: app?.identifiers[platform] ?? '',
        slots,
      })
      return { lane, close: () => origin.close() }
    } catch (error) {
      if (error instanceof CredentialRejected) return { lane: 'credential-rejected', close: none }
      throw error
    }
  }

  async close(): Promise<void> {
    await Promise.all([...this.#lanes.values()].map((kept) => kept.close()))
  }
}

function extraCertificates(file: string): string[] {
  if (file === '') return []
  try {
    return [readFileSync(file, 'utf8')]
  } catch (error) {
    throw new ConfigError(`gateways.trustCa: ${file} cannot be read (${(error as NodeJS.ErrnoException).code})`)
  }
}
