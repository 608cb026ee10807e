import { type Environment, type Platform, platforms, type Reason, sayReason } from '@zbell/core'
import type { Logger } from 'pino'
import { findAppByNo } from '../apps/index.ts'
import type { Config } from '../base/index.ts'
import { type CredentialRow, credentialInUse } from '../credentials/index.ts'
import type { Database } from '../database/index.ts'
import { latestEndpoint } from '../devices/index.ts'
import type { GatewayClient, Gateways } from '../engine/index.ts'
import type { EvaluatorPool } from '../evaluation/index.ts'
import type { Vault } from '../vault/index.ts'
import { type Checked, checkProtocol, impossibleToken } from './check-credential.ts'
import { ClientOpener, type OnAnswer } from './client-opener.ts'
import { GatewayInspector } from './gateway-inspector.ts'
import type { HandsetControl } from './handset-control.ts'
import type { ClientHealth, KeptClient } from './kept-client.ts'
import { Profiles } from './profiles.ts'

/** How long a client is used before a look whether another process has changed its credential. */
const freshForMs = 2_000

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

/** All ways to all gateways, opened when first needed and kept. */
export class GatewayRegistry implements Gateways {
  readonly #database: Database
  readonly #clients = new Map<string, KnownClient>()
  readonly profiles: Profiles
  readonly inspector: GatewayInspector
  /** Opens ways of its own, to be looked at and closed; nothing of what runs notices. */
  readonly opener: ClientOpener

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
    this.#database = database
    this.profiles = new Profiles(config, database, evaluators)
    this.inspector = new GatewayInspector(database, this.profiles)
    this.opener = new ClientOpener(config, database, vault, handsets, this.profiles, log, onAnswer)
  }

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
      ? await this.opener.rehearsing(app, environment, platform)
      : await this.opener.opening(app, appNo, environment, platform)
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

  /** Asks the gateway as a credential, also one that is not in use; nothing of what runs notices. */
  async check(row: CredentialRow): Promise<Checked> {
    const protocol = await this.opener.openProtocol(row)
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
    await this.opener.close()
  }

  async #replace(kept: KnownClient | undefined): Promise<void> {
    if (kept && typeof kept.client !== 'string') await kept.client.replace()
  }
}

const clientName = (appNo: number, environment: Environment, platform: Platform, rehearsal: boolean): string =>
  `${appNo}:${environment}:${platform}${rehearsal ? ':rehearsal' : ''}`
