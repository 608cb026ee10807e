import { readFileSync } from 'node:fs'
import { rootCertificates } from 'node:tls'
import type { Gateway } from '@zbell/contract'
import {
  credentialOf,
  declarativeMessage,
  type Environment,
  maxPlaintextBytes,
  type Outcome,
  type Platform,
  ProfileAtFault,
  type Reason,
  sayReason,
} from '@zbell/core'
import type { Logger } from 'pino'
import { ConfigError } from '../config/load.ts'
import type { Config } from '../config/options.ts'
import type { Address, Gateways, Lane, Sendable, Via } from '../engine/ports.ts'
import type { HandsetControl } from '../handsets/control.ts'
import { type AppRow, findAppByNo } from '../store/apps/apps.ts'
import { type CredentialRow, credentialInUse, markRejected, markUsed } from '../store/apps/credentials.ts'
import type { Database } from '../store/database.ts'
import { latestEndpoint } from '../store/devices/read-devices.ts'
import { type GatewayPlace, profilesInPlace } from '../store/gateways/profiles.ts'
import { tokenSignedAt } from '../store/gateways/signed-tokens.ts'
import type { Vault } from '../vault/vault.ts'
import { type AddressGuard, anywhere, publicOnly } from './address-guard.ts'
import type { SignedAt } from './authorization.ts'
import { type Checked, checkProtocol, impossibleToken } from './check-credential.ts'
import { type Credential, credentialPlace } from './credential.ts'
import { KeptLane, type LaneHealth, type Protocol, type Trial } from './kept-lane.ts'
import { openProfileProtocol, openWebProtocol } from './open-protocol.ts'
import { ProfileProtocol } from './profile-protocol.ts'
import { Profiles, type UsedProfile } from './profiles.ts'
import { Recorder } from './recorder.ts'
import { Rehearsal } from './rehearsal.ts'
import { Places } from './slots.ts'
import { openTransports } from './transport/open-transport.ts'
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

/** All ways to all gateways, opened when first needed and kept. */
export class GatewayRoom implements Gateways {
  readonly #config: Config
  readonly #database: Database
  readonly #vault: Vault
  readonly #log: Logger
  readonly #onAnswer: OnAnswer
  readonly #guard: AddressGuard
  readonly #http: TransportOptions
  readonly #rehearsal: Rehearsal
  readonly #lanes = new Map<string, KnownLane>()
  readonly #recorders = new Map<string, Recorder>()
  readonly profiles: Profiles

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
    this.#guard = config['gateways.allowPrivateAddresses'] ? anywhere : publicOnly
    this.#rehearsal = new Rehearsal(handsets, this.#http, this.#signedAt)
    this.profiles = new Profiles(config, database)
  }

  readonly #signedAt: SignedAt = (key, atMostSeconds) => tokenSignedAt(this.#database, key, atMostSeconds)

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

  /** From which day on an app's gateway is no longer spoken to as its profile says. */
  async outdatedFrom(place: GatewayPlace): Promise<string | null> {
    return (await this.profiles.of(place))?.profile.outdatedFrom ?? null
  }

  /** What is known of an app's gateway. */
  async describe(place: GatewayPlace): Promise<Gateway> {
    const { platform, environment } = place
    if (platform === 'web') return { ...nothingKnown, platform, asksFor: 'vapid-key', bodyBytes: maxPlaintextBytes }
    const [found, rows] = await Promise.all([this.profiles.of(place), profilesInPlace(this.#database, place)])
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
    const found = await this.profiles.of(place)
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

  /** A way of its own, to be looked at and closed; nothing of what runs notices. */
  async openProtocol(row: CredentialRow, profile?: UsedProfile): Promise<Protocol | Reason> {
    return this.#protocolOf(row, profile ?? (await this.profiles.of(row)))
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
    const transport = openTransports(profile.origins(environment), this.#http)
    const facts = sampleFacts(profile, row)
    const identifier = app.identifiers[platform] ?? ''
    return new ProfileProtocol({ ready: profile, authorization: undefined, transport, identifier, facts }).trial(
      given,
      address,
      false,
    )
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
    const protocol = await this.openProtocol(row)
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
    await Promise.all([...this.#recorders.values()].map((recorder) => recorder.store()))
    this.profiles.close()
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
    const place = { appNo, environment, platform }
    const [row, profile] = await Promise.all([
      credentialInUse(this.#database, appNo, environment, platform),
      this.profiles.of(place),
    ])
    if (!row) return { signature: '', open: async () => 'no-credential' }
    // A lane that stays notices here that somebody wants a recording, or no longer does.
    await this.#recorder(place).look(secretHeaderOf(profile))
    const facts = JSON.stringify(row.facts ?? {})
    return {
      signature: `${row.id} ${profile?.signature ?? ''} ${app?.identifiers[platform] ?? ''} ${facts}`,
      open: async () => this.#keptLane(await this.#protocolOf(row, profile), row, profile),
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

  #keptLane(protocol: Protocol | Reason, row: CredentialRow, profile: UsedProfile | undefined): KeptLane | Reason {
    if (typeof protocol === 'string') return protocol
    const { id, appNo, environment, platform } = row
    const gateway = profile?.origins(environment)[0] ?? null
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

  async #protocolOf(row: CredentialRow, profile: UsedProfile | undefined): Promise<Protocol | Reason> {
    const { appNo, environment, platform, sealed } = row
    const place = credentialPlace(appNo, environment, platform)
    const credential = JSON.parse(this.#vault.open(sealed, place).toString()) as Credential
    const identifier = (await findAppByNo(this.#database, appNo))?.identifiers[platform] ?? ''
    const tape = await this.#recorder({ appNo, environment, platform }).look(secretHeaderOf(profile))
    const http = { ...this.#http, tape }
    if (platform === 'web') return openWebProtocol(credential, { webOrigin: identifier, guard: this.#guard, http })
    const origins = profile?.origins(environment) ?? []
    if (!profile || origins.length === 0) return 'no-gateway'
    return openProfileProtocol({
      ready: profile,
      origins,
      credential,
      facts: row.facts ?? {},
      identifier,
      http,
      tokenGuard: this.#guard,
      signedAt: this.#signedAt,
    })
  }

  #recorder(place: GatewayPlace): Recorder {
    const name = laneName(place.appNo, place.environment, place.platform, false)
    const recorder = this.#recorders.get(name) ?? new Recorder(this.#database, place, this.#log)
    this.#recorders.set(name, recorder)
    return recorder
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

const secretHeaderOf = (used: UsedProfile | undefined): string | undefined => {
  const authentication = used?.profile.authentication
  return authentication && 'header' in authentication ? authentication.header.toLowerCase() : undefined
}

/** What a request is measured and looked at with, before an account has said all its facts. */
export const sampleFacts = (
  { profile, facts }: UsedProfile,
  row: Pick<CredentialRow, 'facts'> | undefined,
): Record<string, string> => ({
  ...Object.fromEntries(facts.map((name) => [name, name])),
  ...profile.facts,
  ...row?.facts,
})

const rehearsalVia: Via = { gateway: 'the handsets beside the service', credential: null }

/** A credential as it is named where it is only mentioned. */
const sayCredential = ({ kind, fingerprint }: CredentialRow): string =>
  fingerprint ? `${kind} ${fingerprint.slice(0, 16)}` : kind

const laneName = (appNo: number, environment: Environment, platform: Platform, rehearsal: boolean): string =>
  `${appNo}:${environment}:${platform}${rehearsal ? ':rehearsal' : ''}`

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
