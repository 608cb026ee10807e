import { randomBytes } from 'node:crypto'
import { readFileSync, writeFileSync } from 'node:fs'
import type { Server } from 'node:http'
import type { AddressInfo } from 'node:net'
import { join } from 'node:path'
import { rootCertificates } from 'node:tls'
import type { Logger } from 'pino'
import { closeAll, type Opened } from './close-all.ts'
import { ConfigError } from './config/load.ts'
import type { Config } from './config/options.ts'
import { CredentialChecks } from './credentials/checks.ts'
import { CredentialDesk } from './credentials/desk.ts'
import { rewrapAll } from './credentials/rewrap.ts'
import { anywhere, publicOnly } from './gateways/address-guard.ts'
import { GatewayRoom, trustedCertificates } from './gateways/gateways.ts'
import { HandsetControl } from './handsets/control.ts'
import { scheme } from './http/connections.ts'
import { httpServer } from './http/server.ts'
import { Intake } from './intake/intake.ts'
import { Schedules } from './intake/schedules.ts'
import { Stops } from './intake/stops.ts'
import { LiveHub } from './live/hub.ts'
import { does, openEngine } from './open-engine.ts'
import { BackgroundJobs } from './scheduler/background-jobs.ts'
import { jobsOfService } from './scheduler/jobs-of-service.ts'
import { ScheduleClock } from './scheduler/schedule-clock.ts'
import { Incoming } from './sources/incoming.ts'
import { SourceLooks, type SourceParts } from './sources/source-looks.ts'
import { Sources } from './sources/sources.ts'
import { credentialInUse } from './store/apps/credentials.ts'
import { Milestones } from './store/apps/milestones.ts'
import { Database } from './store/database.ts'
import { PrivateServer } from './store/mariadb/private-server.ts'
import { migrate } from './store/migrate.ts'
import { wakeRejected } from './store/notifications/read-waiting.ts'
import { Metrics } from './telemetry/metrics.ts'
import { metricsListener } from './telemetry/metrics-listener.ts'
import { Pace } from './telemetry/pace.ts'
import { Presence } from './telemetry/presence.ts'
import { triggerClocks } from './triggers/trigger-clock.ts'
import { Triggers } from './triggers/triggers.ts'
import { operatorKey } from './vault/key-files.ts'
import { givenKeyring, keptKeyring } from './vault/keyring.ts'
import { Vault } from './vault/vault.ts'
import { Teller, type TellerParts } from './webhooks/teller.ts'
import { Webhooks } from './webhooks/webhooks.ts'

export type RunningService = {
  readonly url: string
  readonly operatorKey: string
  /** Stops within `engine.stopMs`, whatever the database and the gateways do. */
  close(): Promise<void>
}

export type StartOptions = { readonly config: Config; readonly log: Logger; readonly consoleDir?: string | undefined }

/** Puts the parts together, lowest first; closing goes the other way round, in a bounded time, and reports every failure. */
export async function startService({ config, log, consoleDir }: StartOptions): Promise<RunningService> {
  const opened: Opened[] = []
  const stopMs = config['engine.stopMs']
  const close = () => closeAll(opened.splice(0), stopMs, log)
  let port = config['http.port']
  const address = () => `${scheme(config)}://${config['http.host']}:${port}`
  try {
    const operator = operatorKey(config.data)
    const keyring =
      config['vault.masterKey'] === '' ? keptKeyring(config.data) : givenKeyring(config['vault.masterKey'])
    const vault = new Vault(keyring)
    const metrics = new Metrics()
    const database = await openDatabase(config, log, opened)
    const handsets = new HandsetControl(config['handsets.url'], config['handsets.key'])
    const gateways = await openGateways({ config, log, opened, database, vault, handsets, metrics })
    const checks = new CredentialChecks(database, gateways, metrics, log)
    opened.push({ part: 'credential checks', close: () => checks.close() })
    await checks.measure(new Date())
    const hub = new LiveHub(database, log)
    opened.push({ part: 'live updates', close: () => hub.close() })

    const milestones = new Milestones(database)
    const pace = new Pace()
    const presence = new Presence({ database, gateways, pace, log, does: config.only }, randomBytes(10))
    opened.push({ part: 'presence', close: () => presence.close() })
    if (does(config, 'clock')) {
      const jobs = new BackgroundJobs(database, log, metrics)
      opened.push({ part: 'background jobs', close: () => jobs.close() })
      await jobs.start(
        jobsOfService({
          database,
          checks,
          deliveryDays: config['retention.deliveryDays'],
          occurrenceDays: config['retention.occurrenceDays'],
          retiredDeviceDays: config['retention.retiredDeviceDays'],
          webhookLogDays: config['webhooks.logDays'],
          mostWaiting: config['webhooks.mostWaiting'],
          log,
          onMeasured: (measured) => metrics.noteMeasured(measured),
          onWaiting: (waiting) => metrics.noteWaiting(waiting),
        }),
      )
    }
    const engine = openEngine({ config, log, opened, database, gateways, metrics, milestones, pace, hub })
    const keptDays = config['retention.deliveryDays']
    const intake = new Intake({ database, gateways, pace, keptDays, ...engine.forIntake })
    const schedules = new Schedules(database, intake, keptDays)
    const stops = new Stops(database, intake)
    const sourceParts: SourceParts = {
      database,
      vault,
      guard: config['gateways.allowPrivateAddresses'] ? anywhere : publicOnly,
      trusted: trustedCertificates(config),
      log,
      looked: (kind, outcome) => metrics.sourceLooks.inc({ kind, outcome }),
    }
    const tellerParts: TellerParts = {
      database,
      vault,
      guard: sourceParts.guard,
      trusted: sourceParts.trusted,
      service: () => config['http.publicUrl'].replace(/\/$/, '') || address(),
      log,
      pollMs: config['engine.pollMs'],
      leaseMs: config['engine.leaseMs'],
      isSending: () => engine.isSending(),
      told: (outcome, requests) => metrics.webhookRequests.inc({ outcome }, requests),
    }
    const teller = new Teller(tellerParts)
    if (does(config, 'worker')) teller.start()
    opened.push({ part: 'webhooks', close: () => teller.close() })
    const looks = new SourceLooks(sourceParts)
    opened.push({ part: 'sources', close: () => looks.close() })
    const triggers = new Triggers({
      database,
      intake,
      looks,
      keptDays,
      hears: {
        fired: (state) => metrics.firings.inc({ state }),
        failed: (trigger, err) => log.error({ err, trigger }, 'a trigger could not ring, by a fault of ours'),
      },
    })
    if (does(config, 'clock')) {
      const clock = new ScheduleClock(database, schedules, log, (state) => metrics.scheduleRuns.inc({ state }))
      opened.push({ part: 'schedules', close: () => clock.close() })
      clock.start()
      for (const firing of triggerClocks(triggers, log)) {
        opened.push({ part: 'triggers', close: () => firing.close() })
        firing.start()
      }
      looks.start()
    }
    const http = httpServer({
      config,
      database,
      vault,
      hub,
      metrics,
      log,
      operatorKey: operator,
      consoleDir,
      intake,
      schedules,
      stops,
      triggers,
      sources: new Sources(sourceParts, looks),
      incoming: new Incoming(sourceParts, looks),
      webhooks: new Webhooks(tellerParts, teller),
      answersApi: does(config, 'http'),
      checks,
      handsets,
      milestones,
      gateways,
      rewrap: () => rewrapAll(database, vault, keyring),
      desk: new CredentialDesk(database, vault, async ({ app, environment }, platform) => {
        const used = await gateways.profiles.of({ appNo: app.no, environment, platform })
        return used && { ...used.profile, spokenOf: used.facts }
      }),
      onGateway: async ({ appNo, environment, platform }, isInUse) => {
        await gateways.changed(appNo, environment, platform)
        await wakeRejected(database, { appNo, environment })
        engine.nudge()
        const row = isInUse ? await credentialInUse(database, appNo, environment, platform) : undefined
        if (row) checks.checkSoon(row)
      },
    })
    if (config['metrics.port'] !== 0) {
      const listener = await metricsListener(metrics, { host: config['metrics.host'], port: config['metrics.port'] })
      opened.push({ part: 'metrics', close: () => listener.close() })
    }
    await listening(http.server, config)
    opened.push({ part: 'HTTP', close: () => http.close() })
    port = (http.server.address() as AddressInfo).port
    const url = address()
    writeFileSync(join(config.data, 'service.json'), `${JSON.stringify({ url, pid: process.pid })}\n`)
    if (config['http.trustedProxies'].length > 0 && config['http.publicUrl'] === '')
      log.warn(
        'http.trustedProxies names proxies, and http.publicUrl is missing: links and cookies are made for this port',
      )
    log.info({ url, only: config.only }, 'the service is ready')
    return { url, operatorKey: operator, close }
  } catch (error) {
    await close().catch((again: unknown) => log.error({ err: again }, 'a failed start did not close cleanly'))
    throw error
  }
}

type Opening = { readonly config: Config; readonly log: Logger; readonly opened: Opened[] }

/** The database that is configured, or a private one, with its schema up to date. */
async function openDatabase(config: Config, log: Logger, opened: Opened[]): Promise<Database> {
  let url = config['database.url']
  const initFile = config['database.initFile']
  if (url === '') {
    const server = await PrivateServer.start({
      dataDir: config.data,
      port: config['database.port'],
      memoryMb: config['database.memoryMb'],
      alsoSql: initFile === '' ? [] : readFileSync(initFile, 'utf8').split('\n'),
      log,
    })
    opened.push({ part: 'the private database', close: () => server.stop() })
    url = server.url
  }
  const ca = config['database.ca']
  if (ca === '' && !isLoopback(url))
    log.warn(
      'the database is on another machine and is spoken with without TLS; database.ca names who signs its certificate',
    )
  const database = new Database({
    url,
    connections: config['database.connections'],
    ca: authorities('database.ca', ca),
  })
  opened.push({ part: 'connections to the database', close: () => database.close() })
  const migrated = await migrate(database)
  if (migrated.length > 0) log.info({ migrated }, 'the schema was brought up to date')
  return database
}

async function openGateways({
  config,
  log,
  opened,
  database,
  vault,
  handsets,
  metrics,
}: Opening & {
  readonly database: Database
  readonly vault: Vault
  readonly handsets: HandsetControl
  readonly metrics: Metrics
}): Promise<GatewayRoom> {
  const gateways = new GatewayRoom(config, database, vault, handsets, log, (platform, durationMs, outcome) =>
    metrics.noteGatewayAnswer(platform, durationMs, outcome),
  )
  opened.push({ part: 'connections to gateways', close: () => gateways.close() })
  for (const outdating of await gateways.profiles.outdating())
    log.warn(outdating, 'a gateway profile is marked as outdated')
  metrics.watch(gateways)
  return gateways
}

const isLoopback = (url: string): boolean => /^(localhost|127\.\d+\.\d+\.\d+|\[::1\])$/.test(new URL(url).hostname)

/** @returns undefined for none @throws {ConfigError} */
function authorities(option: string, file: string): readonly string[] | undefined {
  if (file === '') return undefined
  if (file === 'system') return rootCertificates
  try {
    return [readFileSync(file, 'utf8')]
  } catch (error) {
    throw new ConfigError(`${option}: ${file} cannot be read (${(error as NodeJS.ErrnoException).code})`)
  }
}

const listening = (server: Server, config: Config): Promise<void> =>
  new Promise((done, fail) => {
    server.once('error', fail)
    server.listen(config['http.port'], config['http.host'], done)
  })
