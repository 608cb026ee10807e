import { mkdtempSync, readFileSync, rmSync } from 'node:fs'
import { type ClientHttp2Session, connect } from 'node:http2'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { setTimeout as wait } from 'node:timers/promises'
import { type Connection, createConnection } from 'mysql2/promise'
import { fillDevices } from '../e2e/harness/fleet.ts'
import { type Figure, figure } from './figure.ts'
import { app, House } from './house.ts'
import { openOwnGateway } from './own-gateway.ts'
import { PlainClient } from './plain-client.ts'

const rounds = 6
const sendsARound = 100
const idlePauseMs = 5
const broadcastTo = 500_000
const busyForMs = 25_000
const busyPauseMs = 50

/** From an HTTP request for one person to the request at the gateway: on an idle service, and while a broadcast runs. */
export async function personal(): Promise<Figure[]> {
  const dir = mkdtempSync(join(tmpdir(), 'bell-personal-'))
  let own = ''
  let arrived: (atMs: number) => void = () => {}
  const { gateway, mint, ready } = await openOwnGateway(dir)
  gateway.onAsked = (token) => {
    if (token === own) arrived(performance.now())
  }
  const house = await House.open(ready)
  try {
    own = mint.mint()
    await fillDevices(house.databaseUrl, [own])
    const key = await house.makeBackendKey()
    const client = new PlainClient(house.url)
    const body = JSON.stringify({
      to: { any: [`token:${own}`] },
      content: { title: 'Kittiwake is late', body: 'Berth 2' },
      urgency: 'high',
    })
    const ring = async (): Promise<number> => {
      // Waited for, not looked for: a loop that looks would take a processor from those who are measured.
      const arrival = new Promise<number>((done) => {
        arrived = done
      })
      const startMs = performance.now()
      await client.post(`/v1/apps/${app}/notifications`, key, body)
      return (await arrival) - startMs
    }
    const bare = await Bare.open(house, ready, own)
    const idleTimes: number[] = []
    const bareTimes: number[] = []
    for (let i = 0; i < 30; i++) await ring()
    // By turns, since the machine's pace differs from minute to minute.
    for (let round = 0; round < rounds; round++) {
      for (let i = 0; i < sendsARound; i++) {
        idleTimes.push(await ring())
        await wait(idlePauseMs)
      }
      for (let i = 0; i < sendsARound; i++) {
        bareTimes.push(await bare.run())
        await wait(idlePauseMs)
      }
    }
    await bare.close()

    await fillDevices(
      house.databaseUrl,
      Array.from({ length: broadcastTo }, () => mint.mint()),
    )
    await house.backend.call('sendNotification', {
      params: { app },
      body: { to: { any: ['everyone'], none: [`token:${own}`] }, content: { title: 'Storm tonight' } },
    })
    await wait(2_000)
    const endMs = performance.now() + busyForMs
    const busyTimes: number[] = []
    while (performance.now() < endMs) {
      busyTimes.push(await ring())
      await wait(busyPauseMs)
    }
    client.close()
    const during = `ms while a broadcast to ${broadcastTo.toLocaleString('en')} runs`
    return [
      figure(
        'personal-idle-median',
        quantile(idleTimes, 0.5),
        'ms from HTTP request to gateway request',
        quantile(bareTimes, 0.5),
      ),
      figure('personal-idle-p99', quantile(idleTimes, 0.99), 'ms'),
      figure('personal-busy-median', quantile(busyTimes, 0.5), during),
      figure('personal-busy-p99', quantile(busyTimes, 0.99), `${during}, of ${busyTimes.length} sends`),
    ]
  } finally {
    await house.close()
    await gateway.listener.close()
    rmSync(dir, { recursive: true, force: true })
  }
}

const quantile = (all: readonly number[], share: number): number => {
  const inOrder = [...all].sort((a, b) => a - b)
  return inOrder[Math.min(inOrder.length - 1, Math.floor(inOrder.length * share))]!
}

/** The least that could do it: one durable row, then one request over an open connection and its answer. */
class Bare {
  readonly #connection: Connection
  readonly #session: ClientHttp2Session
  readonly #token: string

  private constructor(connection: Connection, session: ClientHttp2Session, token: string) {
    this.#connection = connection
    this.#session = session
    this.#token = token
  }

  static async open(house: House, gateway: { origin: string; caFile: string }, token: string): Promise<Bare> {
    const connection = await createConnection(house.databaseUrl)
    await connection.query('create table if not exists bare (no bigint auto_increment primary key, text varchar(200))')
    const session = connect(gateway.origin, { ca: readFileSync(gateway.caFile, 'utf8') })
    return new Bare(connection, session, token)
  }

  /** @returns how long it took, ms */
  async run(): Promise<number> {
    const startMs = performance.now()
    await this.#connection.query('insert into bare (text) values (?)', ['Kittiwake is late'])
    await new Promise<void>((done, fail) => {
      const stream = this.#session.request({ ':method': 'POST', ':path': `/ring/${this.#token}` })
      stream.on('error', fail)
      stream.on('close', done)
      stream.resume()
      stream.end('{}')
    })
    return performance.now() - startMs
  }

  async close(): Promise<void> {
    this.#session.close()
    await this.#connection.end()
  }
}
