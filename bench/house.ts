import { type ChildProcess, spawn } from 'node:child_process'
import { mkdtempSync, readFileSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { createInterface } from 'node:readline'
import { fileURLToPath } from 'node:url'
import { Client } from '@zbell/contract/client'
import { freePort, makeLog, PrivateServer } from '@zbell/service'
import { type StandinAccount, TokenMint } from '@zbell/standins'
import { fillDevices } from '../e2e/harness/fleet.ts'
import type { Signer } from './signer.ts'

const dist = fileURLToPath(new URL('.', import.meta.url))
export const inFlight = 300
export const app = 'bench'

type ServiceReady = { readonly url: string; readonly operatorKeyFile: string }
type Started = { readonly child: ChildProcess; readonly ready: ServiceReady }

export type GatewayReady = {
  readonly origin: string
  readonly caFile: string
  readonly account: StandinAccount
  /** Another key that it knows, for whoever asks it beside the service. */
  readonly bare: Signer
  readonly profile?: string
}

/** Database, stand-in and service, each in its own process and with the settings that ship. */
export class House {
  readonly gateway: GatewayReady
  readonly backend: Client
  readonly url: string
  readonly #start: () => Promise<Started>
  #service: ChildProcess
  readonly #operatorKeyFile: string
  readonly #database: PrivateServer
  readonly #children: ChildProcess[]
  readonly #dir: string

  private constructor(given: {
    gateway: GatewayReady
    backend: Client
    start: () => Promise<Started>
    service: Started
    database: PrivateServer
    children: ChildProcess[]
    dir: string
  }) {
    this.gateway = given.gateway
    this.backend = given.backend
    this.#start = given.start
    this.#service = given.service.child
    this.url = given.service.ready.url
    this.#operatorKeyFile = given.service.ready.operatorKeyFile
    this.#database = given.database
    this.#children = given.children
    this.#dir = given.dir
  }

  /**
   * @param given a gateway that runs elsewhere; otherwise the stand-in gets a process of its own
   * @param memoryMb what the database may keep in memory
   */
  static async open(given?: GatewayReady, memoryMb = 256): Promise<House> {
    const dir = mkdtempSync(join(tmpdir(), 'bell-bench-'))
    const database = await PrivateServer.start({
      dataDir: dir,
      port: await freePort(),
      memoryMb,
      log: makeLog('silent'),
    })
    const children: ChildProcess[] = []
    try {
      const gateway =
        given ?? (await start<GatewayReady>(children, 'bench-gateway.mjs', [join(dir, 'standins')], process.env)).ready
      const port = await freePort()
      const startService = () =>
        start<ServiceReady>(
          children,
          'zbell.mjs',
          ['serve', '--json'],
          {
            PATH: process.env.PATH,
            ZB_DATA: join(dir, 'service'),
            ZB_PORT: String(port),
            ZB_DATABASE_URL: database.url,
            ZB_TRUST_CA: gateway.caFile,
            ZB_GATEWAY_IOS_PROFILE: gateway.profile ?? `${dist}profiles/standin-ios.yaml`,
            ZB_GATEWAY_IOS_ORIGIN: gateway.origin,
            ZB_ALLOW_PRIVATE_ADDRESSES: 'true',
            ZB_IN_FLIGHT: String(inFlight),
            ZB_REGISTRATIONS_PER_MINUTE: '10000000',
            ZB_DEVICE_CALLS_PER_MINUTE: '10000000',
            ZB_REGISTRATIONS_OF_APP_PER_MINUTE: '10000000',
            ZB_CALLS_OF_DEVICE_PER_MINUTE: '10000000',
            ZB_LOG_LEVEL: 'warn',
          },
          nodeOptions(),
        )
      const service = await startService()
      const { url, operatorKeyFile } = service.ready
      const operatorKey = readFileSync(operatorKeyFile, 'utf8').trim()
      const backend = await furnish({ url, operatorKey }, gateway, app)
      return new House({
        gateway,
        backend,
        start: startService,
        service,
        database,
        children,
        dir,
      })
    } catch (error) {
      for (const child of children) child.kill('SIGTERM')
      await database.stop()
      throw error
    }
  }

  get servicePid(): number {
    return this.#service.pid!
  }

  /** As a power cut would end it; then it is started again. */
  async killService(): Promise<void> {
    this.#service.kill('SIGKILL')
    await new Promise((done) => this.#service.once('exit', done))
    this.#service = (await this.#start()).child
  }

  /** The database dies, and its keeper starts it again. */
  killDatabase(): void {
    process.kill(Number(readFileSync(join(this.#dir, 'mariadb/pid'), 'utf8')), 'SIGKILL')
  }

  get databaseDir(): string {
    return this.#dir
  }

  get databaseUrl(): string {
    return this.#database.url
  }

  async makeAppKey(): Promise<string> {
    const operator = new Client({ url: this.url, bearer: readFileSync(this.#operatorKeyFile, 'utf8').trim() })
    const body = { kind: 'app', environment: 'development', name: 'bench' } as const
    return (await operator.call('makeKey', { params: { app }, body })).key
  }

  async makeBackendKey(): Promise<string> {
    const operator = new Client({ url: this.url, bearer: readFileSync(this.#operatorKeyFile, 'utf8').trim() })
    const body = { kind: 'backend', environment: 'development', name: 'bench too', role: 'owner' } as const
    return (await operator.call('makeKey', { params: { app }, body })).key
  }

  /** Another app, with a credential and a backend key of its own. */
  async makeApp(slug: string): Promise<Client> {
    const operatorKey = readFileSync(this.#operatorKeyFile, 'utf8').trim()
    return furnish({ url: this.url, operatorKey }, this.gateway, slug)
  }

  /** An app’s own server in a process of its own. @returns its address */
  async startReceiver(): Promise<string> {
    const { ready } = await start<{ url: string }>(this.#children, 'bench-receiver.mjs', [], process.env)
    return ready.url
  }

  mintTokens(count: number): string[] {
    const mint = new TokenMint(`ios ${this.gateway.account.tokenSecret}`)
    return Array.from({ length: count }, () => mint.mint())
  }

  /** Puts devices straight into the table: registering them is not what is measured here. */
  fillDevices(tokens: readonly string[]): Promise<void> {
    return fillDevices(this.#database.url, tokens)
  }

  /** The most memory that the service ever held, in MB. */
  get peakMemoryMb(): number {
    const status = readFileSync(`/proc/${this.servicePid}/status`, 'utf8')
    return Number(/VmHWM:\s+(\d+) kB/.exec(status)?.[1]) / 1_024
  }

  /** Bytes that the database has had written to its disk. */
  get databaseBytesWritten(): number {
    const pid = readFileSync(join(this.#dir, 'mariadb/pid'), 'utf8').trim()
    return Number(/^write_bytes: (\d+)/m.exec(readFileSync(`/proc/${pid}/io`, 'utf8'))?.[1])
  }

  /** Seconds of processor time that the service has used. */
  get cpuSeconds(): number {
    return cpuSecondsOf(this.servicePid)
  }

  /** Seconds that the processes have used that it has now: evaluators and readers. */
  get childCpuSeconds(): number {
    const children = readFileSync(`/proc/${this.servicePid}/task/${this.servicePid}/children`, 'utf8')
    return children
      .split(' ')
      .filter((pid) => pid !== '')
      .reduce((sum, pid) => sum + cpuSecondsOf(Number(pid)), 0)
  }

  async close(): Promise<void> {
    for (const child of this.#children) {
      child.kill('SIGTERM')
      if (child.exitCode === null && child.signalCode === null) await new Promise((done) => child.once('exit', done))
    }
    await this.#database.stop()
    rmSync(this.#dir, { recursive: true, force: true })
  }
}

function cpuSecondsOf(pid: number): number {
  const fields = readFileSync(`/proc/${pid}/stat`, 'utf8').split(') ')[1]!.split(' ')
  return (Number(fields[11]) + Number(fields[12])) / 100
}

/** How the service is started; with a place to leave a profile of its processor time, when one is wanted. */
function nodeOptions(): string[] {
  const dir = process.env.BENCH_PROFILE_DIR
  // As `zbell` itself starts.
  return ['--max-semi-space-size=32', ...(dir ? ['--cpu-prof', `--cpu-prof-dir=${dir}`] : [])]
}

/** An app, its credential and its key. */
async function furnish(
  service: { readonly url: string; readonly operatorKey: string },
  gateway: GatewayReady,
  slug: string,
): Promise<Client> {
  const operator = new Client({ url: service.url, bearer: service.operatorKey })
  const params = { app: slug }
  await operator.call('makeApp', { body: { slug, name: slug, identifiers: { ios: 'example.ferries' } } })
  const { jwk, keyId, issuer } = gateway.account.ios
  const files = [{ content: Buffer.from(JSON.stringify(jwk)).toString('base64') }]
  await operator.call('addCredential', {
    params,
    query: { environment: 'development' },
    body: { platform: 'ios', files, keyId, issuer },
  })
  const { key } = await operator.call('makeKey', {
    params,
    body: { kind: 'backend', environment: 'development', name: 'bench', role: 'owner' },
  })
  return new Client({ url: service.url, bearer: key })
}

async function start<T>(
  children: ChildProcess[],
  script: string,
  args: string[],
  env: NodeJS.ProcessEnv,
  nodeOptions: string[] = [],
): Promise<{ child: ChildProcess; ready: T }> {
  const child = spawn(process.execPath, [...nodeOptions, dist + script, ...args], {
    env,
    stdio: ['ignore', 'pipe', 'inherit'],
  })
  children.push(child)
  const line = await new Promise<string>((done, fail) => {
    createInterface({ input: child.stdout! }).once('line', done)
    child.once('exit', (code) => fail(new Error(`${script} ended with ${code}`)))
  })
  return { child, ready: JSON.parse(line) as T }
}
