import { randomBytes } from 'node:crypto'
import { writeFileSync } from 'node:fs'
import type { Server } from 'node:http'
import type { AddressInfo } from 'node:net'
import { join } from 'node:path'
import type { Logger } from 'pino'
import { Milestones } from './apps/index.ts'
import { type Closeable, type Config, closeAll, Metrics, metricsListener, Pace } from './base/index.ts'
import { CredentialRegistry, credentialInUse } from './credentials/index.ts'
import type { Database } from './database/index.ts'
import { Signals } from './engine/index.ts'
import { EvaluatorPool } from './evaluation/index.ts'
import { CredentialChecks, GatewayRegistry, HandsetControl } from './gateways/index.ts'
import { httpServer, rateLimits, scheme } from './http/index.ts'
import { openDatabase } from './open-database.ts'
import { does, openEngine } from './open-engine.ts'
import { openUses } from './open-uses.ts'
import { BackgroundJobs, jobsOfService, LiveHub, Presence, rewrapAll } from './operations/index.ts'
import { wakeRejected } from './policy/index.ts'
import { RuleEvaluator } from './segments/index.ts'
import { givenKeyring, keptKeyring, operatorKey, Vault } from './vault/index.ts'

export type RunningService = {
  readonly url: string
  readonly operatorKey: string
  /** Stops within `engine.stopMs`, whatever the database and the gateways do; a private database takes its own time after that. */
  close(): Promise<void>
}

export type StartOptions = { readonly config: Config; readonly log: Logger; readonly consoleDir?: string | undefined }

/** Puts the parts together, lowest first; closing goes the other way round, in a bounded time, and reports every failure. */
export async function startService({ config, log, consoleDir }: StartOptions): Promise<RunningService> {
  const closeables: Closeable[] = []
  const stopMs = config['engine.stopMs']
  const close = () => closeAll(closeables.splice(0), stopMs, log)
  let port = config['http.port']
  const address = () => `${scheme(config)}://${config['http.host']}:${port}`
  try {
    const operator = operatorKey(config.data)
    const keyring =
      config['vault.masterKey'] === '' ? keptKeyring(config.data) : givenKeyring(config['vault.masterKey'])
    const vault = new Vault(keyring)
    const metrics = new Metrics()
    const database = await openDatabase(config, log, closeables)
    const evaluators = new EvaluatorPool()
    closeables.push({ part: 'evaluators', close: () => evaluators.close() })
    const handsets = new HandsetControl(config['handsets.url'], config['handsets.key'])
    const gateways = await openGateways({ config, log, closeables, database, vault, handsets, evaluators, metrics })
    const checks = new CredentialChecks(database, gateways, metrics, log)
    closeables.push({ part: 'credential checks', close: () => checks.close() })
    await checks.measure(new Date())
    const signals = new Signals()
    const hub = new LiveHub(database, log, signals)
    closeables.push({ part: 'live updates', close: () => hub.close() })

    const milestones = new Milestones(database)
    const pace = new Pace()
    const limits = rateLimits(config, log)
    const presence = new Presence(
      { database, gateways, pace, log, does: config.only, reachedLimits: limits.reached },
      randomBytes(10),
    )
    closeables.push({ part: 'presence', close: () => presence.close() })
    if (does(config, 'clock')) await startJobs({ config, log, closeables, database, checks, metrics })
    const engine = openEngine({ config, log, closeables, database, gateways, metrics, milestones, pace, signals })
    const uses = openUses({
      config,
      log,
      closeables,
      database,
      vault,
      evaluators,
      gateways,
      metrics,
      pace,
      engine,
      signals,
      address,
    })
    const http = httpServer({
      config,
      database,
      vault,
      ruleEvaluator: new RuleEvaluator(evaluators),
      hub,
      signals,
      metrics,
      log,
      operatorKey: operator,
      consoleDir,
      limits,
      ...uses,
      answersApi: does(config, 'http'),
      checks,
      handsets,
      milestones,
      gateways,
      rewrap: () => rewrapAll(database, vault, keyring),
      registry: new CredentialRegistry(database, vault, {
        words: async ({ app, environment }, platform) => {
          const used = await gateways.profiles.of({ appNo: app.no, environment, platform })
          return used && { ...used.profile, spokenOf: used.facts }
        },
        origins: ({ app, environment }, platform) =>
          gateways.profiles.originsOf({ appNo: app.no, environment, platform }),
      }),
      onGateway: async ({ appNo, environment, platform }, isInUse) => {
        await gateways.changed(appNo, environment, platform)
        await wakeRejected(database, { appNo, environment })
        signals.emit('work')
        const row = isInUse ? await credentialInUse(database, appNo, environment, platform) : undefined
        if (row) checks.checkSoon(row)
      },
    })
    if (config['metrics.port'] !== 0) {
      const listener = await metricsListener(metrics, { host: config['metrics.host'], port: config['metrics.port'] })
      closeables.push({ part: 'metrics', close: () => listener.close() })
    }
    await listening(http.server, config)
    closeables.push({ part: 'HTTP', close: () => http.close() })
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

async function startJobs({
  config,
  log,
  closeables,
  database,
  checks,
  metrics,
}: Opening & { readonly database: Database; readonly checks: CredentialChecks; readonly metrics: Metrics }) {
  const jobs = new BackgroundJobs(database, log, metrics)
  closeables.push({ part: 'background jobs', close: () => jobs.close() })
  await jobs.start(
    jobsOfService({
      database,
      checks,
      deliveryDays: config['retention.deliveryDays'],
      notificationDays: config['retention.notificationDays'],
      occurrenceDays: config['retention.occurrenceDays'],
      retiredDeviceDays: config['retention.retiredDeviceDays'],
      webhookLogDays: config['webhooks.logDays'],
      maxWaiting: config['webhooks.mostWaiting'],
      log,
      onMeasured: (measured) => metrics.noteMeasured(measured),
      onWaiting: (waiting) => metrics.noteWaiting(waiting),
    }),
  )
}

type Opening = { readonly config: Config; readonly log: Logger; readonly closeables: Closeable[] }

async function openGateways({
  config,
  log,
  closeables,
  database,
  vault,
  handsets,
  evaluators,
  metrics,
}: Opening & {
  readonly database: Database
  readonly vault: Vault
  readonly handsets: HandsetControl
  readonly evaluators: EvaluatorPool
  readonly metrics: Metrics
}): Promise<GatewayRegistry> {
  const gateways = new GatewayRegistry(
    config,
    database,
    vault,
    handsets,
    evaluators,
    log,
    (platform, durationMs, outcome) => metrics.noteGatewayAnswer(platform, durationMs, outcome),
  )
  closeables.push({ part: 'connections to gateways', close: () => gateways.close() })
  for (const outdating of await gateways.profiles.outdating())
    log.warn(outdating, 'a gateway profile is marked as outdated')
  metrics.watch(gateways)
  return gateways
}

const listening = (server: Server, config: Config): Promise<void> =>
  new Promise((done, fail) => {
    server.once('error', fail)
    server.listen(config['http.port'], config['http.host'], done)
  })
