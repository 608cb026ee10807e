import { readFileSync } from 'node:fs'
import { rootCertificates } from 'node:tls'
import type { Gateway } from '@zbell/contract'
import {
  declarativeMessage,
  type Environment,
  maxPlaintextBytes,
  type Outcome,
  type Platform,
  type Reason,
  RequestShaper,
  sayReason,
} from '@zbell/core'
import type { Logger } from 'pino'
import { ConfigError } from '../config/load.ts'
import type { Config } from '../config/options.ts'
import type { Gateways, Lane, Sendable, Via } from '../engine/ports.ts'
import type { HandsetControl } from '../handsets/control.ts'
import { type AppRow, findAppByNo } from '../store/apps/apps.ts'
import { type CredentialRow, credentialInUse, markRejected, markUsed } from '../store/apps/credentials.ts'
import type { Database } from '../store/database.ts'
import { latestEndpoint } from '../store/devices/read-devices.ts'
import type { Vault } from '../vault/vault.ts'
import { anywhere, publicOnly } from './address-guard.ts'
import { type Checked, checkProtocol, impossibleToken } from './check-credential.ts'
import { type Credential, credentialPlace } from './credential.ts'
import { KeptLane, type LaneHealth, type Protocol } from './kept-lane.ts'
import { loadProfile } from './load-profile.ts'
import { openProfileProtocol, openWebProtocol, type ReadyProfile } from './open-protocol.ts'
import { Rehearsal } from './rehearsal.ts'
import { Places } from './slots.ts'
import type { TransportOptions } from './transport/transport.ts'

/** What stands for a notification and a token while a message is measured. */
const sampleId = '018bcfe5-6800-7fff-bfff-ffffffffffff'
const sampleToken = 't'.repeat(160)

/** How long a lane is used before a look whether another process has changed its credential. */
const freshForMs = 2_000

/** Hears of every request to a platform's gateway; a rehearsal's are not counted. */
export type OnAnswer = (platform: Platform, durationMs: number, outcome: Outcome['is']) => void

/** `signature` is what the lane was opened with: it is opened anew when that has changed. */
type KnownLane = {
  readonly of: LaneOf
  readonly lane: KeptLane | Reason
  readonly signature: string
  checkAtMs: number
}
/** Whose lane it is. */
type LaneOf = {
  readonly appNo: number
  readonly environment: Environment
  readonly platform: Platform
  readonly rehearsal: boolean
}
type Opening = { readonly signature: string; open(): Promise<KeptLane | Reason> }
type Profile = ReadyProfile & { readonly origin: string }

/** All ways to all gateways, opened when first needed and kept. */
export class GatewayRoom implements Gateways {
  readonly #config: Config
  readonly #database: Database
  readonly #vault: Vault
  readonly #log: Logger
  readonly #onAnswer: OnAnswer
  readonly #profiles: ReadonlyMap<Platform, Profile>
  readonly #http: TransportOptions
  readonly #rehearsal: Rehearsal
  readonly #lanes = new Map<string, KnownLane>()

  /** @throws {ConfigError} when a profile or the file of certificates cannot be used */
  constructor(
    config: Config,
    database: Database,
    vault: Vault,
    handsets: HandsetControl,
    log: Logger,
    onAnswer: OnAnswer = () => {},
  ) {
    this.#config = config
    this.#database = database
    this.#vault = vault
    this.#log = log
    this.#onAnswer = onAnswer
    const ca = trustedCertificates(config)
    this.#http = { ca, timeoutMs: config['gateways.timeoutMs'] }
    this.#rehearsal = new Rehearsal(handsets, this.#http)
    this.#profiles = new Map((['ios', 'android'] as const).flatMap((platform) => profileFor(config, platform)))
  }

  /** Which kind of credential a platform's gateway asks for; `undefined` while no profile says. */
  kindTaken(platform: Platform): Credential['kind'] | undefined {
    const kind = this.#profiles.get(platform)?.profile.authentication.kind
    switch (kind) {
      case 'signed-token':
        return 'signing-key'
      case 'grant':
        return 'service-key'
      case 'client-certificate':
      case undefined:
        return kind
      default:
        return kind satisfies never
    }
  }

  async lane(appNo: number, environment: Environment, platform: Platform, rehearsal: boolean): Promise<Lane | Reason> {
    const name = laneName(appNo, environment, platform, rehearsal)
    const kept = this.#lanes.get(name)
    const nowMs = Date.now()
    if (kept && kept.checkAtMs > nowMs) return kept.lane
    const app = await findAppByNo(this.#database, appNo)
    const opening = rehearsal
      ? await this.#rehearsing(app, environment, platform)
      : await this.#opening(app, appNo, environment, platform)
    const { signature } = opening
    if (kept?.signature === signature) {
      kept.checkAtMs = nowMs + freshForMs
      return kept.lane
    }
    const lane = await opening.open()
    // Another block may have opened the same lane meanwhile; the first one stays.
    const raced = this.#lanes.get(name)
    if (raced !== kept && raced?.signature === signature) {
      if (typeof lane !== 'string') await lane.replace()
      return raced.lane
    }
    const of = { appNo, environment, platform, rehearsal }
    this.#lanes.set(name, { of, lane, signature, checkAtMs: nowMs + freshForMs })
    await this.#replace(kept)
    return lane
  }

  /** A credential was changed here: the next look opens its lane anew, and blocks under way notice. */
  async changed(appNo: number, environment: Environment, platform: Platform): Promise<void> {
    const name = laneName(appNo, environment, platform, false)
    const kept = this.#lanes.get(name)
    this.#lanes.delete(name)
    await this.#replace(kept)
  }

  /** How the ways that are open here do. */
  get health(): (LaneOf & LaneHealth)[] {
    return [...this.#lanes.values()].flatMap(({ of, lane }) =>
      typeof lane === 'string' ? [] : [{ ...of, ...lane.health }],
    )
  }

  /** What is known of a platform's gateway. */
  describe(platform: Platform, environment: Environment): Gateway {
    const found = this.#profiles.get(platform)
    return {
      platform,
      profile: found?.profile.profile ?? null,
      origin: (found && (found.origin || found.profile.origins[environment])) ?? null,
      asksFor: platform === 'web' ? 'vapid-key' : (this.kindTaken(platform) ?? null),
      bodyBytes: platform === 'web' ? maxPlaintextBytes : (found?.profile.limits.bodyBytes ?? null),
      outdatedFrom: found?.profile.outdatedFrom ?? null,
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
    const found = this.#profiles.get(platform)
    if (!found || !(found.origin || found.profile.origins[environment]))
      return { bytes: Buffer.byteLength(JSON.stringify(message.content)), limitBytes: null }
    const shaped = await found.shaper.shape({ ...message, notification: sampleId, expiresSeconds: 1, identifier })
    return { bytes: Buffer.byteLength(shaped.body(sampleToken)), limitBytes: found.profile.limits.bodyBytes }
  }

  /** A way of its own, to be looked at and closed; nothing of what runs notices. */
  openProtocol(row: CredentialRow): Promise<Protocol | Reason> {
    return this.#protocolOf(row)
  }

  /** The way to a virtual handset, likewise. */
  openRehearsal(app: AppRow, environment: Environment, platform: Platform): Promise<Protocol | Reason> {
    return this.#rehearsal.open(environment, platform, app.identifiers[platform])
  }

  /** Whether a browser's endpoint is a virtual handset's, on this machine. */
  isRehearsal(endpoint: URL): Promise<boolean> {
    return this.#rehearsal.isEndpoint(endpoint)
  }

  /** Asks the gateway as a credential, also one that is not in use; nothing of what runs notices. */
  async check(row: CredentialRow): Promise<Checked> {
    const protocol = await this.#protocolOf(row)
    if (typeof protocol === 'string')
      return { verdict: { is: 'not-checkable', because: sayReason(protocol) }, roundTripMs: 0 }
    try {
      const token = row.platform === 'web' ? await this.#impossibleEndpoint(row) : impossibleToken()
      if (token === undefined) {
        const because = 'Web push has no gateway of its own: it can be checked once a browser has registered.'
        return { verdict: { is: 'not-checkable', because }, roundTripMs: 0 }
      }
      return await checkProtocol(protocol, { token, p256dh: null, auth: null })
    } finally {
      await protocol.close()
    }
  }

  /** A subscription that cannot exist, at the push service of the browser that was seen last. */
  async #impossibleEndpoint({ appNo, environment }: CredentialRow): Promise<string | undefined> {
    const known = await latestEndpoint(this.#database, appNo, environment)
    if (known === undefined) return undefined
    const { origin, pathname } = new URL(known)
    return `${origin}${pathname.slice(0, pathname.lastIndexOf('/'))}/${impossibleToken()}`
  }

  async close(): Promise<void> {
    await Promise.all([...this.#lanes.values()].map((kept) => this.#replace(kept)))
  }

  async #replace(kept: KnownLane | undefined): Promise<void> {
    if (kept && typeof kept.lane !== 'string') await kept.lane.replace()
  }

  async #opening(
    app: AppRow | undefined,
    appNo: number,
    environment: Environment,
    platform: Platform,
  ): Promise<Opening> {
    const row = await credentialInUse(this.#database, appNo, environment, platform)
    return {
      signature: row ? `${row.id} ${app?.identifiers[platform] ?? ''}` : '',
      open: async () => (row ? this.#keptLane(await this.#protocolOf(row), row) : 'no-credential'),
    }
  }

  async #rehearsing(app: AppRow | undefined, environment: Environment, platform: Platform): Promise<Opening> {
    const identifier = app?.identifiers[platform]
    const plan = await this.#rehearsal.signature(environment, platform)
    return {
      signature: `${plan} ${identifier ?? ''}`,
      open: async () => {
        const protocol = await this.#rehearsal.open(environment, platform, identifier)
        if (typeof protocol === 'string') return protocol
        return new KeptLane(protocol, rehearsalVia, Places.learning(this.#config['gateways.inFlight']), {
          onUsed: () => {},
          onRejected: () => {},
          onAnswer: () => {},
        })
      },
    }
  }

  #keptLane(protocol: Protocol | Reason, row: CredentialRow): KeptLane | Reason {
    if (typeof protocol === 'string') return protocol
    const { id, appNo, environment, platform } = row
    const gateway = platform === 'web' ? null : this.describe(platform, environment).origin
    const heard = (done: Promise<unknown>) =>
      done.catch((error: unknown) => this.#log.warn({ err: error }, 'cannot note a credential’s use'))
    return new KeptLane(
      protocol,
      { gateway, credential: sayCredential(row) },
      Places.learning(this.#config['gateways.inFlight']),
      {
        onUsed: () => void heard(markUsed(this.#database, id)),
        onAnswer: (durationMs, outcome) => this.#onAnswer(platform, durationMs, outcome),
        onRejected: () => {
          this.#log.error(
            { credential: id, app: appNo, environment, platform },
            'the gateway refuses the credential; deliveries wait until it is replaced',
          )
          void heard(markRejected(this.#database, id))
        },
      },
    )
  }

  async #protocolOf({ appNo, environment, platform, sealed }: CredentialRow): Promise<Protocol | Reason> {
    const place = credentialPlace(appNo, environment, platform)
    const credential = JSON.parse(this.#vault.open(sealed, place).toString()) as Credential
    const identifier = (await findAppByNo(this.#database, appNo))?.identifiers[platform] ?? ''
    if (platform === 'web') {
      const guard = this.#config['gateways.allowPrivateAddresses'] ? anywhere : publicOnly
      return openWebProtocol(credential, { webOrigin: identifier, guard, http: this.#http })
    }
    const found = this.#profiles.get(platform)
    const address = found && (found.origin || found.profile.origins[environment])
    if (!found || !address) return 'no-gateway'
    return openProfileProtocol(found, address, credential, identifier, this.#http)
  }
}

const rehearsalVia: Via = { gateway: 'the handsets beside the service', credential: null }

/** A credential as it is named where it is only mentioned. */
const sayCredential = ({ kind, fingerprint }: CredentialRow): string =>
  fingerprint ? `${kind} ${fingerprint.slice(0, 16)}` : kind

const laneName = (appNo: number, environment: Environment, platform: Platform, rehearsal: boolean): string =>
  `${appNo}:${environment}:${platform}${rehearsal ? ':rehearsal' : ''}`

function profileFor(config: Config, platform: 'ios' | 'android'): [Platform, Profile][] {
  const file = config[`gateways.${platform}.profile`]
  if (file === '') return []
  const { profile, ca } = loadProfile(file)
  if (profile.platform !== platform)
    throw new ConfigError(`${file}: this profile is for ${profile.platform}, not for ${platform}`)
  return [
    [platform, { profile, ca, shaper: new RequestShaper(profile), origin: config[`gateways.${platform}.origin`] }],
  ]
}

/** The system’s, and those that the operator added. @throws {ConfigError} */
export const trustedCertificates = (config: Config): string[] => [
  ...rootCertificates,
  ...extraCertificates(config['gateways.trustCa']),
]

function extraCertificates(file: string): string[] {
  if (file === '') return []
  try {
    return [readFileSync(file, 'utf8')]
  } catch (error) {
    throw new ConfigError(`gateways.trustCa: ${file} cannot be read (${(error as NodeJS.ErrnoException).code})`)
  }
}
