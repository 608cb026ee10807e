import { mkdtempSync, readFileSync, rmSync } from 'node:fs'
import { connect } from 'node:http2'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { setTimeout as wait } from 'node:timers/promises'
import { createConnection } from 'mysql2/promise'
import { fillDevices } from '../e2e/harness/fleet.ts'
import { type Figure, figure } from './figure.ts'
import { app, House } from './house.ts'
import { openOwnGateway } from './own-gateway.ts'
import { PlainClient } from './plain-client.ts'

const idleSends = 300
const broadcastTo = 500_000
const busyForMs = 25_000

/** From an HTTP request for one person to the request at the gateway: on an idle service, and while a broadcast runs. */
export async function personal(): Promise<Figure[]> {
  const dir = mkdtempSync(join(tmpdir(), 'bell-personal-'))
  let own = ''
  let arrived: (atMs: number) => void = () => {}
  const { gateway, mint, ready } = await openOwnGateway(dir, (token) => {
    if (token === own) arrived(performance.now())
  })
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
    const times = async (until: () => boolean, pauseMs: number): Promise<number[]> => {
      const all: number[] = []
      while (until()) {
        all.push(await ring())
        await wait(pauseMs)
      }
      return all.sort((a, b) => a - b)
    }
    for (let i = 0; i < 30; i++) await ring()
    let left = idleSends
    const idle = await times(() => left-- > 0, 5)
    const bare = await bareCommitAndRoundTrip(house, ready, own)

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
    const busy = await times(() => performance.now() < endMs, 50)
    client.close()
    const at = (all: readonly number[], share: number) => all[Math.min(all.length - 1, Math.floor(all.length * share))]!
    return [
      figure('personal-idle-median', at(idle, 0.5), 'ms from HTTP request to gateway request', bare),
      figure('personal-idle-p99', at(idle, 0.99), 'ms'),
      figure('personal-busy-median', at(busy, 0.5), `ms while a broadcast to ${broadcastTo.toLocaleString('en')} runs`),
      figure('personal-busy-p99', at(busy, 0.99), `ms while it runs, of ${busy.length} sends`),
    ]
  } finally {
    await house.close()
    await gateway.listener.close()
    rmSync(dir, { recursive: true, force: true })
  }
}

/** The least that could do it: one durable row, then one request over an open connection. @returns the median, ms */
async function bareCommitAndRoundTrip(
  house: House,
  { origin, caFile }: { origin: string; caFile: string },
  token: string,
): Promise<number> {
  const connection = await createConnection(house.databaseUrl)
  await connection.query('create table if not exists bare (no bigint auto_increment primary key, text varchar(200))')
  const session = connect(origin, { ca: readFileSync(caFile, 'utf8') })
  const all: number[] = []
  for (let i = 0; i < idleSends; i++) {
    const startMs = performance.now()
    await connection.query('insert into bare (text) values (?)', ['Kittiwake is late'])
    await new Promise<void>((done, fail) => {
      const stream = session.request({ ':method': 'POST', ':path': `/ring/${token}` })
      stream.on('error', fail)
      stream.on('close', done)
      stream.resume()
      stream.end('{}')
    })
    all.push(performance.now() - startMs)
    await wait(5)
  }
  session.close()
  await connection.end()
  return all.sort((a, b) => a - b)[Math.floor(all.length / 2)]!
}
