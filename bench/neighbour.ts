import { mkdtempSync, rmSync } from 'node:fs'
import { createServer } from 'node:http'
import { type AddressInfo, createServer as createSocketServer } from 'node:net'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { setTimeout as wait } from 'node:timers/promises'
import type { Client } from '@zbell/contract/client'
import { type Connection, createConnection } from 'mysql2/promise'
import { fillDevices } from '../e2e/harness/fleet.ts'
import { type Figure, figure } from './figure.ts'
import { app, House } from './house.ts'
import { openOwnGateway } from './own-gateway.ts'

/** Another app, which goes on with its work. */
const calm = 'calm'
const probes = Number(process.env.BENCH_PROBES ?? 15)
/** An app at its worst has its work under way by then. */
const warmUpMs = 2_000
const many = <T>(count: number, one: (n: number) => T): T[] => Array.from({ length: count }, (_, n) => one(n))

type Times = { readonly ring: number; readonly webhook: number; readonly poll: number }
const kinds = ['ring', 'webhook', 'poll'] as const
/** Begins its worst. @returns what ends it */
type Worst = (house: House) => Promise<() => Promise<void>>

/**
 * What one app at its worst costs another: a personal notification until it is at the gateway, the webhook about it, and a row that
 * changed until its notification is at the gateway; by turns with quiet times, for each kind of worst.
 */
export async function neighbour(): Promise<Figure[]> {
  const dir = mkdtempSync(join(tmpdir(), 'bell-neighbour-'))
  const arrivals = new Map<string, () => void>()
  const { gateway, mint, ready } = await openOwnGateway(dir)
  gateway.onAsked = (token) => arrivals.get(token)?.()
  const house = await House.open(ready)
  const connection = await createConnection({ uri: house.databaseUrl, timezone: 'Z' })
  try {
    const probe = await probeOf(house, connection, () => mint.mint(), arrivals)
    const figures: Figure[] = []
    for (let n = 0; n < 3; n++) await probe()
    for (const [name, begin] of Object.entries(worsts)) {
      const quiet = await timesOf(probe)
      const end = await begin(house)
      await wait(warmUpMs)
      const beside = await timesOf(probe)
      await end()
      for (const kind of kinds)
        figures.push(figure(`neighbour-${name}-${kind}`, median(beside, kind), 'ms', median(quiet, kind)))
      await wait(warmUpMs)
    }
    return figures
  } finally {
    await connection.end()
    await house.close()
    await gateway.listener.close()
    rmSync(dir, { recursive: true, force: true })
  }
}

async function timesOf(probe: () => Promise<Times>): Promise<Times[]> {
  const times: Times[] = []
  for (let n = 0; n < probes; n++) times.push(await probe())
  return times
}

const median = (all: readonly Times[], kind: (typeof kinds)[number]): number =>
  [...all].map((one) => one[kind]).sort((a, b) => a - b)[all.length >> 1]!

/** Rings, hears the webhook and changes a row, one after the other, as the calm app. */
async function probeOf(
  house: House,
  connection: Connection,
  mint: () => string,
  arrivals: Map<string, () => void>,
): Promise<() => Promise<Times>> {
  const client = await house.makeApp(calm)
  const [own, sailing] = [mint(), mint()]
  await fillDevices(house.databaseUrl, [own, sailing], { appNo: 2 })
  let heard = () => {}
  const receiver = createServer((request, response) => {
    request.resume().once('end', () => response.writeHead(204).end())
    heard()
  }).listen(0, '127.0.0.1')
  receiver.unref()
  await new Promise((done) => receiver.once('listening', done))
  const { port } = receiver.address() as AddressInfo
  const params = { app: calm }
  await client.call('saveWebhook', {
    params: { ...params, webhook: 'calm' },
    body: { url: `http://127.0.0.1:${port}/`, kinds: ['delivery.accepted'] },
  })
  await connection.query('create table calm_sailings (id int primary key, delay int not null)')
  await connection.query('insert into calm_sailings values (1, 0)')
  await client.call('saveSource', {
    params: { ...params, source: 'sailings' },
    body: {
      kind: 'table',
      url: house.databaseUrl,
      table: 'calm_sailings',
      by: 'comparison',
      key: ['id'],
      watch: ['delay'],
      everySeconds: 1,
    },
  })
  await client.call('saveTrigger', {
    params: { ...params, trigger: 'late' },
    body: {
      enabled: true,
      source: 'sailings',
      to: { any: [`'token:${sailing}'`] },
      content: { title: 'Late' },
      key: 'string(row.delay)',
    },
  })
  const arrival = (token: string) => new Promise<void>((done) => arrivals.set(token, done))
  const since = async (startMs: number, what: Promise<void>) => {
    await what
    return performance.now() - startMs
  }
  return async () => {
    const told = new Promise<void>((done) => {
      heard = done
    })
    const startMs = performance.now()
    const rung = since(startMs, arrival(own))
    await client.call('sendNotification', {
      params,
      body: { to: { any: [`token:${own}`] }, content: { title: 'Boarding' }, urgency: 'high' },
    })
    const ring = await rung
    const webhook = await since(startMs, told)
    // Not always at the same moment of the second that lies between two polls.
    await wait(Math.random() * 1_000)
    const changedMs = performance.now()
    const polled = since(changedMs, arrival(sailing))
    await connection.query('update calm_sailings set delay = delay + 1')
    return { ring, webhook, poll: await polled }
  }
}

/** Does something again and again, so many at a time, whatever is answered. */
function again(atATime: number, act: () => Promise<unknown>): () => Promise<void> {
  let goesOn = true
  const lanes = many(atATime, async () => {
    while (goesOn) await act().catch(() => wait(10))
  })
  return async () => {
    goesOn = false
    await Promise.all(lanes)
  }
}

const params = { app }
const chain = `event.data.list${`.map(x, [${many(38, () => 'x').join(', ')}])`.repeat(4)}`
const report = (client: Client, type: string, more: object) =>
  client.call('reportOccurrences', {
    params,
    body: many(20, (n) => ({ id: `${Math.random()} ${n}`, source: '/worst', type, ...more })) as never,
  })

const worsts: Readonly<Record<string, Worst>> = {
  /** Triggers whose conditions use up their time and memory. */
  expressions: async ({ backend }) => {
    const event = { list: many(20, () => 'x') }
    await backend.call('saveTrigger', {
      params: { ...params, trigger: 'chained' },
      body: {
        source: 'occurrences',
        types: ['chained'],
        when: chain,
        to: { any: ["'everyone'"] },
        content: { title: 'T' },
        enabled: true,
      },
    })
    await report(backend, 'chained', { data: event })
    const end = again(4, () =>
      backend.call('tryTrigger', { params: { ...params, trigger: 'chained' }, body: { event: { data: event } } }),
    )
    return async () => {
      await backend.call('deleteTrigger', { params: { ...params, trigger: 'chained' } })
      await end()
    }
  },
  /** Sources at servers that never answer, and at one whose rows are made by an expression that never ends. */
  sources: async ({ backend }) => {
    const silent = createSocketServer(() => {}).listen(0, '127.0.0.1')
    const json = createServer((_, answer) => answer.end('{}')).listen(0, '127.0.0.1')
    await wait(50)
    const urlOf = (server: typeof silent, scheme: string) =>
      `${scheme}://a:b@127.0.0.1:${(server.address() as AddressInfo).port}/c`
    const save = (name: string, body: object) =>
      backend.call('saveSource', { params: { ...params, source: name }, body: body as never })
    const table = { kind: 'table', table: 'a', by: 'comparison', key: ['id'], watch: ['b'], everySeconds: 1 }
    const names = many(20, (n) => `silent-${n}`)
    await Promise.all(names.map((name) => save(name, { ...table, url: urlOf(silent, 'mysql') })))
    const forever = '($f := function($n) { $f($n + 1) }; $f(0))'
    const { port } = json.address() as AddressInfo
    const poll = { kind: 'poll', url: `http://127.0.0.1:${port}/`, rows: forever, key: ['id'], everySeconds: 1 }
    const slow = many(5, (n) => `slow-${n}`)
    await Promise.all(slow.map((name) => save(name, poll)))
    return async () => {
      for (const name of [...names, ...slow])
        await backend.call('deleteSource', { params: { ...params, source: name } })
      silent.close()
      json.close()
    }
  },
  /** A hundred receivers of everything, none of which ever answers. */
  webhooks: async ({ backend }) => {
    const silent = createServer(() => {}).listen(0, '127.0.0.1')
    await wait(50)
    const { port } = silent.address() as AddressInfo
    const names = many(100, (n) => `silent-${n}`)
    for (const name of names)
      await backend.call('saveWebhook', {
        params: { ...params, webhook: name },
        body: { url: `http://127.0.0.1:${port}/${name}`, kinds: ['*'] },
      })
    const end = again(2, () =>
      backend.call('changeUserAttributes', { params: { ...params, user: `u${Math.random()}` }, body: { a: 1 } }),
    )
    const sending = again(2, () =>
      backend.call('sendNotification', {
        params,
        body: { to: { any: ['everyone'] }, content: { title: 'Nobody' } },
      }),
    )
    return async () => {
      await Promise.all([end(), sending()])
      for (const name of names) await backend.call('deleteWebhook', { params: { ...params, webhook: name } })
      silent.closeAllConnections()
      silent.close()
    }
  },
  /** Rules that are explained over a thousand large occurrences. */
  explanations: async ({ backend }) => {
    for (let n = 0; n < 50; n++)
      await report(backend, 'large', { subject: 'ada', data: { fare: n, note: 'x'.repeat(9_900) } })
    const rule = many(15, (n) => `count("large", duration("720h"), o, o.data.fare > ${n}) > 5`).join(' && ')
    return again(4, () => backend.call('explainRule', { params, body: { user: 'ada', rule } }))
  },
  /** Previews of recurrences whose times lie far apart. */
  previews: async ({ backend }) =>
    again(4, () =>
      backend.call('previewSchedule', {
        params,
        body: {
          when: { from: '2026-12-01T00:00', zone: 'Europe/Oslo', repeat: 'FREQ=HOURLY;INTERVAL=24;BYYEARDAY=366' },
          count: 250,
        },
      }),
    ),
  /** Bodies as large as they may be, with as many values as are too many. */
  bodies: async ({ backend }) =>
    again(4, () =>
      backend.call('sendNotification', {
        params,
        body: { to: { any: many(9_000, (n) => `user:nobody-${n}`) }, content: { title: 'T' } },
      }),
    ),
}
