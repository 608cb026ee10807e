import { readFileSync } from 'node:fs'
import { rootCertificates } from 'node:tls'
import { type Environment, type Outcome, type Platform, platforms, type Reason, sayReason } from '@zbell/core'
import type { Logger } from 'pino'
import { findAppByNo } from '../apps/index.ts'
import { type Config, ConfigError } from '../base/index.ts'
import {
  type Credential,
  type CredentialRow,
  credentialInUse,
  credentialPlace,
  markRejected,
  markUsed,
} from '../credentials/index.ts'
import type { AppRow, Database, GatewayPlace } from '../database/index.ts'
import { latestEndpoint } from '../devices/index.ts'
import type { GatewayClient, Gateways, Via } from '../engine/index.ts'
import type { EvaluatorPool } from '../evaluation/index.ts'
import { type AddressGuard, anywhere, onlyHosts, publicOnly } from '../net/index.ts'
import { http1Connections, type TransportOptions } from '../transport/index.ts'
import type { Vault } from '../vault/index.ts'
import type { SignedAt } from './authorization.ts'
import { type Checked, checkProtocol, impossibleToken } from './check-credential.ts'
import { GatewayInspector } from './gateway-inspector.ts'
import type { HandsetControl } from './handset-control.ts'
import { type ClientHealth, KeptClient, type Protocol } from './kept-client.ts'
import { ConcurrencyLimiter } from './limiter.ts'
import { openProfileProtocol, openWebProtocol } from './open-protocol.ts'
import { Profiles, type UsedProfile } from './profiles.ts'
import { Recorder } from './recorder.ts'
import { Rehearsal } from './rehearsal.ts'
import { tokenSignedAt } from './store/signed-tokens.ts'

/** How long a client is used before a look whether another process has changed its credential. */
const freshForMs = 2_000

/** Called with every request to a platform's gateway; a rehearsal's are not counted. */
export type OnAnswer = (platform: Platform, durationMs: number, outcome: Outcome['is']) => void

/** `signature` is what the client was opened with: it is opened anew when that has changed. */
type KnownClient = {
  readonly of: ClientOf
  readonly client: KeptClient | Reason
  readonly signature: string
  checkAtMs: number
}
/** Whose client it is. */
type ClientOf = {
  readonly appNo: number
  /** Its slug, by which all else names it. */
  readonly app: string
  readonly environment: Environment
  readonly platform: Platform
  readonly rehearsal: boolean
}
type Opening = { readonly signature: string; open(): Promise<KeptClient | Reason> }

/** All ways to all gateways, opened when first needed and kept. */
export class GatewayRegistry implements Gateways {
  readonly #config: Config
  readonly #database: Database
  readonly #vault: Vault
  readonly #log: Logger
  readonly #onAnswer: OnAnswer
  readonly #guard: AddressGuard
  readonly #pushGuard: AddressGuard
  readonly #http: TransportOptions
  readonly #rehearsal: Rehearsal
  readonly #clients = new Map<string, KnownClient>()
  readonly #recorders = new Map<string, Recorder>()
  readonly profiles: Profiles
  readonly inspector: GatewayInspector

  /** @throws {ConfigError} when a profile or the file of certificates cannot be used */
  constructor(
    config: Config,
    database: Database,
    vault: Vault,
    handsets: HandsetControl,
    evaluators: EvaluatorPool,
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
    this.#pushGuard = onlyHosts(config['gateways.web.hosts'], this.#guard)
    this.#rehearsal = new Rehearsal(handsets, this.#http, this.#signedAt, config['gateways.inFlight'])
    this.profiles = new Profiles(config, database, evaluators)
    this.inspector = new GatewayInspector(database, this.profiles)
  }

  readonly #signedAt: SignedAt = (key, atMostSeconds) => tokenSignedAt(this.#database, key, atMostSeconds)

  async client(
    appNo: number,
    environment: Environment,
    platform: Platform,
    rehearsal: boolean,
  ): Promise<GatewayClient | Reason> {
    const name = clientName(appNo, environment, platform, rehearsal)
    const kept = this.#clients.get(name)
    const nowMs = Date.now()
    if (kept && kept.checkAtMs > nowMs) return kept.client
    const app = await findAppByNo(this.#database, appNo)
    const opening = rehearsal
      ? await this.#rehearsing(app, environment, platform)
      : await this.#opening(app, appNo, environment, platform)
    const { signature } = opening
    if (kept?.signature === signature) {
      kept.checkAtMs = nowMs + freshForMs
      return kept.client
    }
    const client = await opening.open()
    // Another block may have opened the same client meanwhile; the first one stays.
    const raced = this.#clients.get(name)
    if (raced !== kept && raced?.signature === signature) {
      if (typeof client !== 'string') await client.replace()
      return raced.client
    }
    const of = { appNo, app: app?.slug ?? String(appNo), environment, platform, rehearsal }
    this.#clients.set(name, { of, client, signature, checkAtMs: nowMs + freshForMs })
    await this.#replace(kept)
    return client
  }

  /** Platforms on which nothing can go out, and why; a virtual handset is reached all the same. */
  async unserved(appNo: number, environment: Environment): Promise<ReadonlyMap<Platform, Reason>> {
    const found = await Promise.all(
      platforms.map(async (platform): Promise<readonly [Platform, Reason | undefined]> => {
        const place = { appNo, environment, platform }
        const row = await credentialInUse(this.#database, appNo, environment, platform)
        if (!row) return [platform, 'no-credential']
        if (platform === 'web') return [platform, undefined]
        const profile = await this.profiles.of(place)
        if (!profile || profile.origins(environment).length === 0) return [platform, 'no-gateway']
        const isElsewhere = (await this.profiles.unboundOrigin(place, profile, row)) !== undefined
        return [platform, isElsewhere ? 'credential-elsewhere' : undefined]
      }),
    )
    return new Map(found.flatMap(([platform, reason]) => (reason ? [[platform, reason] as const] : [])))
  }

  /** A credential was changed here: the next look opens its client anew, and blocks under way notice. */
  async changed(appNo: number, environment: Environment, platform: Platform): Promise<void> {
    const name = clientName(appNo, environment, platform, false)
    const kept = this.#clients.get(name)
    this.#clients.delete(name)
    await this.#replace(kept)
  }

  /** How the ways that are open here do. */
  get health(): (ClientOf & ClientHealth)[] {
    return [...this.#clients.values()].flatMap(({ of, client }) =>
      typeof client === 'string' ? [] : [{ ...of, ...client.health }],
    )
  }

  /** A way of its own, to be looked at and closed; nothing of what runs notices. */
  async openProtocol(row: CredentialRow, profile?: UsedProfile): Promise<Protocol | Reason> {
    return this.#protocolOf(row, profile ?? (await this.profiles.of(row)))
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
    await Promise.all([...this.#clients.values()].map((kept) => this.#replace(kept)))
    await Promise.all([...this.#recorders.values()].map((recorder) => recorder.store()))
  }

  async #replace(kept: KnownClient | undefined): Promise<void> {
    if (kept && typeof kept.client !== 'string') await kept.client.replace()
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
    // A client that stays notices here that somebody wants a recording, or no longer does.
    await this.#recorder(place).look(secretHeaderOf(profile))
    const facts = JSON.stringify([row.facts ?? {}, row.origins])
    return {
      signature: `${row.id} ${profile?.signature ?? ''} ${app?.identifiers[platform] ?? ''} ${facts}`,
      open: async () => this.#keptClient(await this.#protocolOf(row, profile), row, profile),
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
        return new KeptClient(protocol, rehearsalVia, ConcurrencyLimiter.learning(this.#config['gateways.inFlight']), {
          onUsed: () => {},
          onRejected: () => {},
          onAnswer: () => {},
        })
      },
    }
  }

  #keptClient(protocol: Protocol | Reason, row: CredentialRow, profile: UsedProfile | undefined): KeptClient | Reason {
    if (typeof protocol === 'string') return protocol
    const { id, appNo, environment, platform } = row
    const gateway = profile?.origins(environment)[0] ?? null
    const inFlight = this.#config['gateways.inFlight']
    const heard = (done: Promise<unknown>) =>
      done.catch((error: unknown) => this.#log.warn({ err: error }, 'cannot note a credential’s use'))
    return new KeptClient(
      protocol,
      { gateway, credential: sayCredential(row) },
      ConcurrencyLimiter.learning(Math.min(inFlight, profile?.profile.http === 1.1 ? http1Connections : inFlight)),
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
    const recorder = await this.#recorder({ appNo, environment, platform }).look(secretHeaderOf(profile))
    const http = { ...this.#http, recorder }
    if (platform === 'web')
      return openWebProtocol(credential, {
        webOrigin: identifier,
        guard: this.#pushGuard,
        http,
        inFlight: this.#config['gateways.inFlight'],
      })
    const origins = profile?.origins(environment) ?? []
    if (!profile || origins.length === 0) return 'no-gateway'
    if ((await this.profiles.unboundOrigin(row, profile, row)) !== undefined) return 'credential-elsewhere'
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
    const name = clientName(place.appNo, place.environment, place.platform, false)
    const recorder = this.#recorders.get(name) ?? new Recorder(this.#database, place, this.#log)
    this.#recorders.set(name, recorder)
    return recorder
  }
}

const secretHeaderOf = (used: UsedProfile | undefined): string | undefined => {
  const authentication = used?.profile.authentication
  return authentication && 'header' in authentication ? authentication.header.toLowerCase() : undefined
}

const rehearsalVia: Via = { gateway: 'the handsets beside the service', credential: null }

/** A credential as it is named where it is only mentioned. */
const sayCredential = ({ kind, fingerprint }: CredentialRow): string =>
  fingerprint ? `${kind} ${fingerprint.slice(0, 16)}` : kind

const clientName = (appNo: number, environment: Environment, platform: Platform, rehearsal: boolean): string =>
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
