import { mkdirSync, readFileSync, writeFileSync } from 'node:fs'
import { join, resolve } from 'node:path'
import { Client } from '@zbell/contract/client'
import { nodeCrypto } from '@zbell/service/crypto'
import { openStandins, type Standins } from '@zbell/standins'
import { stringify } from 'yaml'
import { Harbour, type HarbourAccounts, harbourAccounts, harbourSchema, readerUrl } from './harbour.ts'
import { type KeptDemo, readKept, writeKept } from './kept.ts'
import {
  listenToHarbour,
  makeAccount,
  makeApp,
  playCrew,
  playScenario,
  sayProject,
  weatherAddress,
} from './load-scenario.ts'
import { Office } from './office.ts'
import { openPassengerServer } from './passenger-server.ts'
import { usablePort } from './ports.ts'
import { ferries, handsets } from './scenario/scenario.ts'
import { startServiceProcess } from './service-process.ts'

export type DemoOptions = {
  readonly data: string
  /** The service's port; 0 picks a free one, `undefined` keeps the one of last time. */
  readonly port: number | undefined
  /** So many passengers besides the five who are told of, when the scenario is loaded. */
  readonly riders: number
  /** Called with what the ferry company’s own server was told. */
  readonly onOffice?: (line: string) => void
  /** Where the bundles lie. */
  readonly dist: string
}

/** What `--json` prints. */
export type DemoReady = {
  readonly service: string
  readonly console: string
  readonly app: string
  readonly environment: 'development'
  readonly backendKey: string
  readonly appKey: string
  readonly account: { readonly email: string; readonly password: string }
  readonly handsets: readonly { readonly id: string; readonly user: string; readonly platform: string }[]
  readonly signInLink: string
  readonly passengers: string
  readonly profile: string
}

export type RunningDemo = {
  readonly ready: DemoReady
  /** As the operator of its service. */
  readonly operator: Client
  readonly standins: Standins
  /** Where the service reads the harbour office’s tables. */
  readonly harbourUrl: string
  readonly ended: Promise<void>
  close(): Promise<void>
}

const presetPort = 7420

/** Starts the stand-ins, the service in a process of its own, and the passengers' page, and loads the scenario once. */
export async function startDemo(options: DemoOptions): Promise<RunningDemo> {
  const data = resolve(options.data)
  mkdirSync(data, { recursive: true, mode: 0o700 })
  const keptFile = join(data, 'demo.json')
  const before = readKept(keptFile)
  const opened: (() => Promise<void>)[] = []
  const close = async () => {
    for (const step of opened.splice(0).reverse()) await step()
  }
  try {
    let service = { url: '', appKey: before?.appKey ?? '' }
    let proofKey = before?.proofKey ?? ''
    const profiles = join(options.dist, 'profiles')
    const standins = await openStandins({ dir: join(data, 'standins'), crypto: nodeCrypto, profiles })
    opened.push(() => standins.close())
    const ports = await choosePorts(options.port, before)
    const accounts = harbourAccounts(data)
    const harbour = new Harbour(accounts, ports.database)
    opened.push(() => harbour.close())
    const office = new Office(join(data, 'office.secret'), options.onOffice ?? (() => {}))
    const passengerPage = await openPassengerServer({
      port: ports.passengers,
      dir: join(options.dist, 'passenger'),
      push: standins.push,
      service: () => service,
      proofKey: () => proofKey,
      harbour,
      office,
    })
    opened.push(() => passengerPage.close())
    const running = await startServiceProcess({
      zbell: join(options.dist, 'zbell.mjs'),
      configFile: writeServiceConfig(data, options.dist, ports, standins, accounts),
      logFile: join(data, 'service.log'),
    })
    opened.push(() => running.stop())

    await harbour.open()
    const operator = new Client({ url: running.url, bearer: readFileSync(running.operatorKeyFile, 'utf8').trim() })
    const kept = before
      ? { ...before, ports }
      : {
          ...(await makeApp(operator, standins, ferries.slug, passengerPage.url)),
          account: await makeAccount(operator),
          ports,
        }
    writeKept(keptFile, kept)
    if (before) await sayProject(operator, standins.account)
    service = { url: running.url, appKey: kept.appKey }
    standins.place(ferries.slug, service)
    standins.moveService(running.url)
    await standins.restoreHandsets()
    const backend = new Client({ url: running.url, bearer: kept.backendKey })
    if (proofKey === '') {
      proofKey = (await backend.call('makeProofKey', { params: { app: ferries.slug } })).key
      writeKept(keptFile, { ...kept, proofKey })
    }
    const harbourUrl = readerUrl(accounts, ports.database)
    if (standins.registry.list(ferries.slug).length === 0) {
      await playScenario(
        ferries.slug,
        backend,
        new Client({ url: running.url, bearer: kept.appKey }),
        standins,
        options.riders,
      )
      await listenToHarbour(ferries.slug, backend, harbourUrl, accounts.weather)
    }
    await office.listen(backend, `${passengerPage.url}/office/bell`)
    harbour.weatherAddress = await weatherAddress(backend)
    await playCrew(operator)
    const { link } = await operator.call('makeSignInLink', { body: { email: kept.account.email } })
    const profile = join(data, 'profile.yaml')
    writeFileSync(profile, stringify({ url: running.url, key: kept.backendKey, app: ferries.slug }), { mode: 0o600 })
    return {
      ready: {
        service: running.url,
        console: `${running.url}/`,
        app: ferries.slug,
        environment: 'development',
        backendKey: kept.backendKey,
        appKey: kept.appKey,
        account: kept.account,
        handsets: handsets.map(({ id, user, platform }) => ({ id, user, platform })),
        signInLink: `${running.url}/sign-in#${link}`,
        passengers: passengerPage.url,
        profile,
      },
      operator,
      standins,
      harbourUrl,
      ended: new Promise((done) => running.child.once('exit', () => done())),
      close,
    }
  } catch (error) {
    await close()
    throw error
  }
}

async function choosePorts(given: number | undefined, before: KeptDemo | undefined): Promise<KeptDemo['ports']> {
  const service = given || (given === 0 && before ? before.ports.service : (before?.ports.service ?? presetPort))
  return {
    // A port that was asked for is taken as it is: the service says so when it is not free.
    service: given ? given : await usablePort(given === 0 && !before ? 0 : service),
    passengers: await usablePort(before?.ports.passengers ?? 0),
    database: await usablePort(before?.ports.database ?? 0),
  }
}

function writeServiceConfig(
  data: string,
  dist: string,
  ports: KeptDemo['ports'],
  standins: Standins,
  accounts: HarbourAccounts,
): string {
  const initFile = join(data, 'harbour.sql')
  writeFileSync(initFile, harbourSchema(accounts), { mode: 0o600 })
  const file = join(data, 'service.yaml')
  const config = {
    data: join(data, 'service'),
    http: { port: ports.service },
    // For five passengers and some hundreds beside them.
    database: { port: ports.database, initFile, memoryMb: 64 },
    gateways: {
      trustCa: standins.caFile,
      allowPrivateAddresses: true,
      ios: { profile: join(dist, 'profiles/standin-ios.yaml'), origin: standins.ios.listener.origin },
      android: { profile: join(dist, 'profiles/standin-android.yaml'), origin: standins.android.listener.origin },
    },
    handsets: { url: standins.control.url, key: standins.account.controlKey },
    // Every device of the demo calls from this machine's one address.
    limits: { registrationsPerMinute: 60_000, deviceCallsPerMinute: 600_000, signInsPerMinute: 60 },
  }
  writeFileSync(file, stringify(config), { mode: 0o600 })
  return file
}
