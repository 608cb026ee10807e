import { readFileSync } from 'node:fs'
import { rootCertificates } from 'node:tls'
import type { Environment, Outcome, Platform, Reason } from '@zbell/core'
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
import type { Via } from '../engine/index.ts'
import { type AddressGuard, anywhere, onlyHosts, publicOnly } from '../net/index.ts'
import { http1Connections, type TransportOptions } from '../transport/index.ts'
import type { Vault } from '../vault/index.ts'
import type { SignedAt } from './authorization.ts'
import type { HandsetControl } from './handset-control.ts'
import { KeptClient, type Protocol } from './kept-client.ts'
import { ConcurrencyLimiter } from './limiter.ts'
import { openProfileProtocol, openWebProtocol } from './open-protocol.ts'
import type { Profiles, UsedProfile } from './profiles.ts'
import { Recorder } from './recorder.ts'
import { Rehearsal } from './rehearsal.ts'
import { tokenSignedAt } from './store/signed-tokens.ts'

/** Called with every request to a platform's gateway; a rehearsal's are not counted. */
export type OnAnswer = (platform: Platform, durationMs: number, outcome: Outcome['is']) => void

/** A client to be opened; one that was opened with the same signature serves as well. */
export type Opening = { readonly signature: string; open(): Promise<KeptClient | Reason> }

/** Opens the ways to gateways: what stands in the database, in a profile and in the configuration comes together here. */
export class ClientOpener {
  readonly #config: Config
  readonly #database: Database
  readonly #vault: Vault
  readonly #log: Logger
  readonly #profiles: Profiles
  readonly #onAnswer: OnAnswer
  readonly #guard: AddressGuard
  readonly #pushGuard: AddressGuard
  readonly #http: TransportOptions
  readonly #rehearsal: Rehearsal
  readonly #recorders = new Map<string, Recorder>()

  /** @throws {ConfigError} when the file of certificates cannot be used */
  constructor(
    config: Config,
    database: Database,
    vault: Vault,
    handsets: HandsetControl,
    profiles: Profiles,
    log: Logger,
    onAnswer: OnAnswer,
  ) {
    this.#config = config
    this.#database = database
    this.#vault = vault
    this.#log = log
    this.#profiles = profiles
    this.#onAnswer = onAnswer
    const ca = trustedCertificates(config)
    this.#http = { ca, timeoutMs: config['gateways.timeoutMs'] }
    this.#guard = config['gateways.allowPrivateAddresses'] ? anywhere : publicOnly
    this.#pushGuard = onlyHosts(config['gateways.web.hosts'], this.#guard)
    this.#rehearsal = new Rehearsal(handsets, this.#http, this.#signedAt, config['gateways.inFlight'])
  }

  readonly #signedAt: SignedAt = (key, atMostSeconds) => tokenSignedAt(this.#database, key, atMostSeconds)

  /** A way of its own, to be looked at and closed; nothing of what runs notices. */
  async openProtocol(row: CredentialRow, profile?: UsedProfile): Promise<Protocol | Reason> {
    return this.#protocolOf(row, profile ?? (await this.#profiles.of(row)))
  }

  /** The way to a virtual handset, likewise. */
  openRehearsal(app: AppRow, environment: Environment, platform: Platform): Promise<Protocol | Reason> {
    return this.#rehearsal.open(environment, platform, app.identifiers[platform])
  }

  /** Whether a browser's endpoint is a virtual handset's, on this machine. */
  isRehearsal(endpoint: URL): Promise<boolean> {
    return this.#rehearsal.isEndpoint(endpoint)
  }

  /** The way to a platform's gateway, as the app speaks to it now. */
  async opening(
    app: AppRow | undefined,
    appNo: number,
    environment: Environment,
    platform: Platform,
  ): Promise<Opening> {
    const place = { appNo, environment, platform }
    const [row, profile] = await Promise.all([
      credentialInUse(this.#database, appNo, environment, platform),
      this.#profiles.of(place),
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

  /** The way to virtual handsets. */
  async rehearsing(app: AppRow | undefined, environment: Environment, platform: Platform): Promise<Opening> {
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
    if ((await this.#profiles.unboundOrigin(row, profile, row)) !== undefined) return 'credential-elsewhere'
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

  /** Stores what is recorded. */
  async close(): Promise<void> {
    await Promise.all([...this.#recorders.values()].map((recorder) => recorder.store()))
  }

  #recorder(place: GatewayPlace): Recorder {
    const name = `${place.appNo} ${place.environment} ${place.platform}`
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
