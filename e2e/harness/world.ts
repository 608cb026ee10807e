import type { ChildProcess } from 'node:child_process'
import { mkdtempSync, readFileSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { Client } from '@zbell/contract/client'
import { nodeCrypto } from '@zbell/service/crypto'
import { openStandins, type Standins } from '@zbell/standins'
import { createConnection } from 'mysql2/promise'
import { freePort } from '../../packages/service/src/database/private/private-server.ts'
import { dist, ended, endProgram, saidBy, startProgram } from './programs.ts'
import { copyStandins, createDatabase, type SuiteDatabase } from './servers/client.ts'
import { OwnDatabase } from './servers/own-database.ts'

export const app = 'merrow-sound'
export const params = { app }

type WorldOptions = {
  /** A MariaDB of its own, which can be stopped; else a database on the one that all suites share. */
  readonly ownDatabase?: boolean
}

/** A whole installation on loopback: a database, stand-ins, and the service in a process that can be killed. */
export class World {
  readonly data: string
  readonly standins: Standins
  readonly url: string
  readonly #env: NodeJS.ProcessEnv
  readonly #database: SuiteDatabase
  #service: ChildProcess
  readonly #services: ChildProcess[]
  operator!: Client
  backend!: Client
  appKey!: string
  backendKey!: string

  private constructor(given: {
    data: string
    standins: Standins
    url: string
    env: NodeJS.ProcessEnv
    database: SuiteDatabase
    service: ChildProcess
  }) {
    this.data = given.data
    this.standins = given.standins
    this.url = given.url
    this.#env = given.env
    this.#database = given.database
    this.#service = given.service
    this.#services = [given.service]
  }

  static async open(extra: Record<string, string> = {}, { ownDatabase = false }: WorldOptions = {}): Promise<World> {
    const data = mkdtempSync(join(tmpdir(), 'bell-world-'))
    const port = await freePort()
    const url = `http://127.0.0.1:${port}`
    const database = ownDatabase ? await OwnDatabase.start(join(data, 'database')) : await createDatabase()
    await copyStandins(join(data, 'standins'))
    const standins = await openStandins({
      dir: join(data, 'standins'),
      crypto: nodeCrypto,
      profiles: `${dist}profiles`,
    })
    const env: NodeJS.ProcessEnv = {
      PATH: process.env.PATH,
      ZB_DATA: join(data, 'service'),
      ZB_PORT: String(port),
      ZB_DATABASE_URL: database.url,
      ZB_TRUST_CA: standins.caFile,
      ZB_ALLOW_PRIVATE_ADDRESSES: 'true',
      ZB_GATEWAY_IOS_PROFILE: `${dist}profiles/standin-ios.yaml`,
      ZB_GATEWAY_IOS_ORIGIN: standins.ios.listener.origin,
      ZB_GATEWAY_ANDROID_PROFILE: `${dist}profiles/standin-android.yaml`,
      ZB_GATEWAY_ANDROID_ORIGIN: standins.android.listener.origin,
      ZB_HANDSETS_URL: standins.control.url,
      ZB_HANDSETS_KEY: standins.account.controlKey,
      ZB_REGISTRATIONS_PER_MINUTE: '1000000',
      ZB_DEVICE_CALLS_PER_MINUTE: '1000000',
      ZB_LOG_LEVEL: 'warn',
      ...extra,
    }
    const { child } = await startProgram('zbell.mjs', ['serve', '--json'], env)
    const world = new World({ data, standins, url, env, database, service: child })
    await world.#furnish()
    standins.place(app, { url, appKey: world.appKey })
    return world
  }

  /** The app, its credentials and its keys. */
  async #furnish(): Promise<void> {
    this.operator = new Client({ url: this.url, bearer: this.operatorKey })
    await this.makeApp(app)
    const { ios, android, web } = this.standins.account
    await this.addCredential({ platform: 'ios', ...ios })
    await this.addCredential({ platform: 'android', ...android })
    await this.addCredential({ platform: 'web', jwk: web.jwk, subject: 'mailto:bell@merrow-sound.example' })
    this.backendKey = await this.makeKey(app, 'backend')
    this.appKey = await this.makeKey(app, 'app')
    this.backend = new Client({ url: this.url, bearer: this.backendKey })
  }

  /** Hands in a key as JWK. */
  addCredential({ jwk, ...more }: { platform: 'ios' | 'android' | 'web'; jwk: object; [extra: string]: unknown }) {
    const files = [{ content: Buffer.from(JSON.stringify(jwk)).toString('base64') }]
    return this.operator.call('addCredential', {
      params,
      query: { environment: 'development' },
      body: { files, ...more },
    })
  }

  async makeApp(slug: string): Promise<void> {
    const identifiers = { ios: 'example.ferries', android: 'example.ferries', web: 'https://ferries.example' }
    await this.operator.call('makeApp', { body: { slug, name: slug, identifiers } })
  }

  async makeKey(
    slug: string,
    kind: 'backend' | 'app',
    environment: 'development' | 'production' = 'development',
  ): Promise<string> {
    const role = kind === 'backend' ? { role: 'owner' as const } : {}
    const body = { kind, environment, name: kind, ...role }
    const made = await this.operator.call('makeKey', { params: { app: slug }, body })
    return made.key
  }

  get operatorKey(): string {
    return readFileSync(join(this.data, 'service/operator.key'), 'utf8').trim()
  }

  /** What a process measures. @param data its folder, within this world’s */
  async metrics(url = this.url, data = 'service'): Promise<string> {
    const key = readFileSync(join(this.data, data, 'operator.key'), 'utf8').trim()
    return (await fetch(`${url}/metrics`, { headers: { authorization: `Bearer ${key}` } })).text()
  }

  get servicePid(): number {
    return this.#service.pid ?? 0
  }

  /** What the service has logged, over all its starts. */
  get log(): string {
    return this.#services.map(saidBy).join('')
  }

  get serviceLives(): boolean {
    return this.#service.exitCode === null && this.#service.signalCode === null
  }

  async killService(): Promise<void> {
    this.#service.kill('SIGKILL')
    await ended(this.#service)
  }

  async startService(): Promise<void> {
    this.#service = (await startProgram('zbell.mjs', ['serve', '--json'], this.#env)).child
    this.#services.push(this.#service)
  }

  /** The MariaDB of a world that has its own. */
  get ownDatabase(): OwnDatabase {
    if (!(this.#database instanceof OwnDatabase)) throw new Error('this world has no database server of its own')
    return this.#database
  }

  /** A handset with its device registered. @param n makes its id, and its user unless one is given */
  async handset(
    n: number,
    platform: 'ios' | 'android' | 'web' = 'ios',
    more: { user?: string; permission?: 'granted' | 'denied' | 'prompt' } = {},
  ) {
    return this.standins.registry.make({ id: `h${n}`, app, model: 'Skerry', platform, user: `passenger-${n}`, ...more })
  }

  /** Another process of the service on the same database. */
  async startSecond(
    more: Record<string, string> = {},
  ): Promise<{ client: Client; url: string; pid: number; log(): string; stop(): Promise<void> }> {
    const { child, ready } = await startProgram<{ url: string }>('zbell.mjs', ['serve', '--json'], {
      ...this.#env,
      ZB_PORT: '0',
      ZB_DATA: join(this.data, 'second'),
      ZB_MASTER_KEY: readFileSync(join(this.data, 'service/master.key'), 'utf8'),
      ...more,
    })
    return {
      url: ready.url,
      pid: child.pid ?? 0,
      log: () => saidBy(child),
      client: new Client({ url: ready.url, bearer: this.backendKey }),
      stop: () => endProgram(child),
    }
  }

  /** Changes the database behind the service's back, as another process would. */
  async changeDirectly(sql: string): Promise<void> {
    const connection = await createConnection(this.#database.url)
    await connection.query(sql)
    await connection.end()
  }

  /** Reads the database behind the service's back. */
  async ask(sql: string): Promise<unknown[]> {
    const connection = await createConnection(this.#database.url)
    const [rows] = await connection.query(sql)
    await connection.end()
    return rows as unknown[]
  }

  get databaseUrl(): string {
    return this.#database.url
  }

  async send(request: object): Promise<string> {
    const { id } = await this.backend.call('sendNotification', { params, body: request as never })
    return id
  }

  notification(id: string) {
    return this.backend.call('readNotification', { params: { app, id } })
  }

  async close(): Promise<void> {
    await endProgram(this.#service)
    await this.standins.close()
    await this.#database.drop()
    rmSync(this.data, { recursive: true, force: true })
    const undescribed = this.log.split('\n').find((line) => line.includes('its description does not name'))
    if (undescribed) throw new Error(`the interface answers otherwise than it is described: ${undescribed}`)
  }

  /** Tells the service to stop, as a supervisor does. @returns how it ended */
  async stopService(): Promise<{ readonly durationMs: number; readonly code: number | null }> {
    const startMs = performance.now()
    await endProgram(this.#service)
    return { durationMs: performance.now() - startMs, code: this.#service.exitCode }
  }
}
