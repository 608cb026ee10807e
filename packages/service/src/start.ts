import { randomBytes } from 'node:crypto'
import { writeFileSync } from 'node:fs'
import type { AddressInfo } from 'node:net'
import { join } from 'node:path'
import { isReceiptState, platforms } from '@zbell/core'
import type { Logger } from 'pino'
import { closeAll, type Opened } from './close-all.ts'
import type { Config } from './config/options.ts'
import { CredentialChecks } from './credentials/checks.ts'
import { CredentialDesk } from './credentials/desk.ts'
import { rewrapAll } from './credentials/rewrap.ts'
import type { WorkStore } from './engine/ports.ts'
import { prepareAhead } from './engine/prepare-ahead.ts'
import { Worker } from './engine/worker.ts'
import { GatewayRoom } from './gateways/gateways.ts'
import { HandsetControl } from './handsets/control.ts'
import { httpServer } from './http/server.ts'
import { Intake } from './intake/intake.ts'
import { LiveHub } from './live/hub.ts'
import { BackgroundJobs } from './scheduler/background-jobs.ts'
import { jobsOfService } from './scheduler/jobs-of-service.ts'
import { Milestones } from './store/apps/milestones.ts'
import { Database } from './store/database.ts'
import type { OnStep } from './store/deliveries/day-counts.ts'
import { PrivateServer } from './store/mariadb/private-server.ts'
import { migrate } from './store/migrate.ts'
import { wakeRejected } from './store/notifications/read-waiting.ts'
import { workStore } from './store/work-store.ts'
import { Metrics } from './telemetry/metrics.ts'
import { Pace } from './telemetry/pace.ts'
import { Presence } from './telemetry/presence.ts'
import { operatorKey } from './vault/key-files.ts'
import { givenKeyring, keptKeyring } from './vault/keyring.ts'
import { Vault } from './vault/vault.ts'

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
  try {
    const operator = operatorKey(config.data)
    const keyring =
      config['vault.masterKey'] === '' ? keptKeyring(config.data) : givenKeyring(config['vault.masterKey'])
    const vault = new Vault(keyring)
    const metrics = new Metrics()

    let url = config['database.url']
    if (url === '') {
      const server = await PrivateServer.start({
        dataDir: config.data,
        port: config['database.port'],
        memoryMb: config['database.memoryMb'],
        log,
      })
      opened.push({ part: 'the private database', close: () => server.stop() })
      url = server.url
    }
    const database = new Database({ url, connections: config['database.connections'] })
    opened.push({ part: 'connections to the database', close: () => database.close() })
    const migrated = await migrate(database)
    if (migrated.length > 0) log.info({ migrated }, 'the schema was brought up to date')

    const handsets = new HandsetControl(config['handsets.url'], config['handsets.key'])
    const gateways = new GatewayRoom(config, database, vault, handsets, log, (platform, durationMs, outcome) =>
      metrics.noteGatewayAnswer(platform, durationMs, outcome),
    )
    opened.push({ part: 'connections to gateways', close: () => gateways.close() })
    for (const { platform, profile, outdatedFrom } of platforms.map((one) => gateways.describe(one, 'production'))) {
      if (outdatedFrom) log.warn({ platform, profile, outdatedFrom }, 'a gateway profile is marked as outdated')
    }
    const checks = new CredentialChecks(database, gateways, metrics, log)
    opened.push({ part: 'credential checks', close: () => checks.close() })
    await checks.measure(new Date())
    const hub = new LiveHub(database, log)
    opened.push({ part: 'live updates', close: () => hub.close() })

    const giveUp = new AbortController()
    const milestones = new Milestones(database)
    const pace = new Pace()
    const onStep: OnStep = (platform, state, durationMs) => {
      if (state === 'accepted' || isReceiptState(state)) metrics.noteStep(platform, state, durationMs)
    }
    const store = counted(
      workStore(database, milestones, config['engine.leaseMs'], giveUp.signal, onStep),
      metrics,
      pace,
    )
    const worker = new Worker(
      store,
      gateways,
      { atOnce: config['engine.blocks'], leaseMs: config['engine.leaseMs'], pollMs: config['engine.pollMs'] },
      log,
      { onStored: () => hub.nudge() },
    )
    const presence = new Presence({ database, gateways, pace, log, does: config.only }, randomBytes(10))
    opened.push({ part: 'presence', close: () => presence.close() })
    metrics.watch(gateways)
    const { only } = config
    const runs = (part: 'http' | 'worker' | 'clock') => only === 'everything' || only === part
    if (runs('clock')) {
      const jobs = new BackgroundJobs(database, log, metrics)
      opened.push({ part: 'background jobs', close: () => jobs.close() })
      await jobs.start(jobsOfService({ database, checks, deliveryDays: config['retention.deliveryDays'], log }))
    }
    if (runs('worker')) worker.start()
    const stopWorker = async () => {
      // What gateways answered last has to be stored as well, also when the database hesitates.
      const patience = setTimeout(() => giveUp.abort(), stopMs * 0.75)
      await worker.stop(stopMs * 0.5)
      clearTimeout(patience)
    }
    opened.push({ part: 'the worker', close: stopWorker })

    const intake = new Intake({
      database,
      gateways,
      pace,
      leaseMs: runs('worker') ? config['engine.leaseMs'] : 0,
      // What stores it has to be on its way first, which it is with the next turn of the event loop.
      prepareSoon: (notification, devices) =>
        new Promise(setImmediate)
          .then(() => prepareAhead(notification, devices, gateways))
          .catch((error: unknown) => {
            // Sending meets the same again, and deals with it.
            log.debug({ err: error, notification: notification.id }, 'a notification could not be made ready ahead')
            return undefined
          }),
      onAccepted: (held, ahead) => {
        if (!held) worker.nudge()
        else if (!worker.take(held, ahead))
          store
            .release(held.claim, 0)
            .catch((error: unknown) => log.warn({ err: error }, 'cannot give work back; its lease will run out'))
            .finally(() => worker.nudge())
      },
      onHold: () => void worker.lookForHolds().then(() => worker.nudge()),
    })
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
      answersApi: runs('http'),
      checks,
      handsets,
      milestones,
      gateways,
      rewrap: () => rewrapAll(database, vault, keyring),
      desk: new CredentialDesk(database, vault, (platform) => gateways.kindTaken(platform)),
      onCredential: async (row) => {
        const { appNo, environment, platform } = row
        await gateways.changed(appNo, environment, platform)
        await wakeRejected(database, { appNo, environment })
        worker.nudge()
        if (row.slot === 'in-use') checks.checkSoon(row)
      },
    })
    await new Promise<void>((done, fail) => {
      http.server.once('error', fail)
      http.server.listen(config['http.port'], config['http.host'], done)
    })
    opened.push({ part: 'HTTP', close: () => http.close() })
    const { port } = http.server.address() as AddressInfo
    const address = `http://${config['http.host']}:${port}`
    writeFileSync(join(config.data, 'service.json'), `${JSON.stringify({ url: address, pid: process.pid })}\n`)
    log.info({ url: address, only }, 'the service is ready')
    return { url: address, operatorKey: operator, close }
  } catch (error) {
    await close().catch((again: unknown) => log.error({ err: again }, 'a failed start did not close cleanly'))
    throw error
  }
}

const counted = (store: WorkStore, metrics: Metrics, pace: Pace): WorkStore => ({
  ...store,
  async storeOutcomes(claim, outcomes) {
    const held = await store.storeOutcomes(claim, outcomes)
    if (held) {
      pace.note(outcomes.ended.length, Date.now())
      metrics.noteOutcomes(outcomes.ended)
    }
    return held
  },
})
