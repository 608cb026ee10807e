import { once } from 'node:events'
import { readFileSync } from 'node:fs'
import { Agent, createServer, request } from 'node:http'
import type { AddressInfo } from 'node:net'
import { join } from 'node:path'
import { fileURLToPath } from 'node:url'
import { brotliCompressSync, deflateSync, gzipSync } from 'node:zlib'
import { afterAll, beforeAll, expect, test } from '@jest/globals'
import { Webhook } from 'standardwebhooks'
import { lookAtLoop } from '../harness/loop.ts'
import { OddInputs, type Schema } from '../harness/odd-inputs.ts'
import { patience } from '../harness/programs.ts'
import { inScope } from '../harness/scope.ts'
import { app, World } from '../harness/world.ts'

/** A found fault is looked for again with its seed (TEST_SEED), and so many inputs. */
const count = Number(process.env.ODD_INPUTS ?? inScope({ default: 1_000, all: 5_000, long: 100_000 }))
const atOnce = 6
/** How much more memory the service may hold after it than in its middle. */
const maxGrowthMb = 60

type Described = {
  readonly operationId: string
  readonly parameters?: readonly { readonly name: string; readonly in: string; readonly schema: Schema }[]
  readonly requestBody?: { readonly content: Readonly<Record<string, { readonly schema?: Schema }>> }
  readonly security?: readonly Readonly<Record<string, unknown>>[]
}
type Operation = Described & { readonly method: string; readonly path: string }

let world: World
let service: Awaited<ReturnType<World['startSecond']>>
const agent = new Agent({ keepAlive: true, maxSockets: atOnce })
beforeAll(async () => {
  world = await World.open()
  service = await world.startSecond({
    NODE_OPTIONS: `--import ${fileURLToPath(new URL('../harness/loop-watch.mjs', import.meta.url))}`,
    LOOP_WATCH_FILE: join(world.data, 'loop.json'),
    ZB_REGISTRATIONS_PER_MINUTE: '10000000',
    ZB_DEVICE_CALLS_PER_MINUTE: '10000000',
    ZB_CALLS_OF_DEVICE_PER_MINUTE: '10000000',
    ZB_SIGN_INS_PER_MINUTE: '10000',
    ZB_INCOMING_PER_MINUTE: '10000000',
    ZB_LOG_LEVEL: 'error',
  })
})
afterAll(async () => {
  agent.destroy()
  await service?.stop()
  await world.close()
})

type Sent = { readonly status: number; readonly text: string }

function send(
  method: string,
  path: string,
  headers: Record<string, string>,
  body: string | Buffer | undefined,
): Promise<Sent> {
  const { hostname, port } = new URL(service.url)
  return new Promise((done) => {
    const length = body === undefined ? {} : { 'content-length': Buffer.byteLength(body) }
    const asked = request({ hostname, port, method, path, agent, headers: { ...headers, ...length } }, (answer) => {
      const status = answer.statusCode ?? 0
      if (String(answer.headers['content-type']).startsWith('text/event-stream')) {
        answer.destroy()
        done({ status, text: '' })
        return
      }
      let text = ''
      answer.on('data', (chunk: Buffer) => {
        if (text.length < 2_000) text += chunk
      })
      answer.once('close', () => done({ status, text }))
    })
    // It was let go: by the service, for what nobody sends.
    asked.once('error', () => done({ status: 0, text: '' }))
    asked.end(body)
  })
}

test(
  `${count.toLocaleString('en')} inputs that nobody means are answered in words, in flat memory, and stop nothing`,
  async () => {
    const document = (await (await fetch(`${service.url}/openapi.json`)).json()) as {
      paths: Record<string, Record<string, Described>>
      components: { schemas: Record<string, Schema> }
    }
    const operations: Operation[] = Object.entries(document.paths).flatMap(([path, all]) =>
      Object.entries(all).map(([method, one]) => ({ ...one, method: method.toUpperCase(), path })),
    )
    expect(operations.length).toBeGreaterThan(120)
    const operatorKey = readFileSync(join(world.data, 'second/operator.key'), 'utf8').trim()
    const odd = new OddInputs(Number(process.env.TEST_SEED ?? 1), document.components.schemas)
    const device = JSON.parse(
      (
        await send(
          'POST',
          '/v1/devices',
          { authorization: `Bearer ${world.appKey}`, 'content-type': 'application/json' },
          JSON.stringify({ platform: 'ios', token: world.standins.mints.ios.mint() }),
        )
      ).text,
    ) as { secret: string }
    const keyFor = ({ path }: Operation): string => {
      if (odd.chance() < 0.03) return odd.of(['nobody', world.appKey, device.secret, world.backendKey])
      if (path.startsWith('/v1/devices/me')) return device.secret
      return path === '/v1/devices' || path === '/v1/app' ? world.appKey : operatorKey
    }
    const one = async (): Promise<{ readonly asked: string; readonly sent: Sent }> => {
      const operation = odd.of(operations)
      const faults = odd.of([0.01, 0.05, 0.3])
      const values = new Map<string, string>()
      const query = new URLSearchParams()
      for (const { name, in: where, schema } of operation.parameters ?? []) {
        const value = String(odd.value(schema, faults))
        if (where === 'path') values.set(name, name === 'app' && odd.chance() > faults ? 'merrow-sound' : value || 'x')
        else if (where === 'query' && odd.chance() < 0.5) query.set(name, value)
      }
      if (odd.chance() > faults) query.set('environment', 'development')
      const path = operation.path.replace(/\{(\w+)\}/g, (_, name: string) =>
        encodeURIComponent((values.get(name) ?? 'x').replace(/\p{Surrogate}/gu, '')),
      )
      const [type, given] = Object.entries(operation.requestBody?.content ?? {})[0] ?? []
      const whole = given && JSON.stringify(odd.value(given.schema ?? {}, faults))
      const body = whole && odd.chance() < 0.03 ? whole.slice(0, whole.length / 2) : whole
      const headers = { authorization: `Bearer ${keyFor(operation)}`, ...(type ? { 'content-type': type } : {}) }
      const asked = `${operation.method} ${path}?${query} ${body?.slice(0, 1_000) ?? ''}`
      return { asked, sent: await send(operation.method, `${path}?${query}`, headers, body) }
    }

    const bad: string[] = []
    const statuses = new Map<number, number>()
    const memory: number[] = []
    const ratios: number[] = []
    const loop = lookAtLoop(service.pid, join(world.data, 'loop.json'))
    await loop()
    const perPart = count / 5
    for (let part = 0; part < 5; part++) {
      let left = perPart
      await Promise.all(
        Array.from({ length: atOnce }, async () => {
          while (left-- > 0) {
            const { asked, sent } = await one()
            statuses.set(sent.status, (statuses.get(sent.status) ?? 0) + 1)
            if (sent.status >= 500 && sent.status !== 503 && sent.status !== 507)
              bad.push(`${sent.status} ${asked.slice(0, 600)}`)
          }
        }),
      )
      const { stoodMs, referenceMs, heapMb } = await loop()
      memory.push(heapMb)
      ratios.push(stoodMs / referenceMs)
    }
    expect({ bad: bad.slice(0, 5), because: bad.length === 0 ? [] : faultsIn(service.log()) }).toEqual({
      bad: [],
      because: [],
    })
    expect([...statuses.keys()].sort()).toEqual(expect.arrayContaining([200, 401, 404, 422]))
    expect(Math.max(...memory.slice(3)) - memory[2]!).toBeLessThan(maxGrowthMb)
    // Several at a time: what each may take adds up.
    expect(Math.min(...ratios)).toBeLessThan(atOnce)
    expect((await fetch(`${service.url}/readyz`)).status).toBe(200)
  },
  patience(count * 60),
)

/** Pieces of conditions, put together at random. */
const pieces = [
  ...[
    'event',
    '.data',
    '.x',
    '[0]',
    '(',
    ')',
    '[',
    ']',
    '{',
    '}',
    ' && ',
    ' || ',
    '!',
    ' == ',
    ' < ',
    ' + ',
    ' - ',
    ' * ',
  ],
  ...['1', '1e308', '-9223372036854775808', '"a"', "'é🛳'", 'null', 'x', 'has(', '.map(x, ', '.exists(x, ', '.all(x, '],
  ...['.matches("(a+)+$")', 'duration("1h")', 'timestamp("2026-12-01T00:00:00Z")', 'string(', 'size(', ', ', ' ? '],
  ...[' : ', ' in ', '\uD800', '\0', '//', 'event.data', 'user.pass', 'count("a", duration("1h"), o, o.data.x > 1)'],
]
const encodings = { gzip: gzipSync, deflate: deflateSync, br: brotliCompressSync } as const

test(
  'whatever comes to an incoming address, from a polled one, or as a condition is answered in words',
  async () => {
    const odd = new OddInputs(Number(process.env.TEST_SEED ?? 1), {})
    const bad: string[] = []
    const json = { authorization: `Bearer ${world.backendKey}`, 'content-type': 'application/json' }
    const base = `/v1/apps/${app}`
    const note = (what: string, { status, text }: Sent) => {
      if (status >= 500 && status !== 503) bad.push(`${status} ${what.slice(0, 300)} ${text.slice(0, 300)}`)
    }
    /** Bytes that are JSON, nearly JSON, or nothing, and what they say they are. */
    const oddBody = (): { readonly text: string; readonly bytes: Buffer; readonly headers: Record<string, string> } => {
      const whole = JSON.stringify(odd.odd())
      const text = odd.chance() < 0.2 ? whole.slice(0, whole.length / 2) : whole
      const plain = odd.chance() < 0.1 ? Buffer.from([0xff, 0xfe, 0x22, 0xed, 0xa0, 0x80]) : Buffer.from(text)
      if (odd.chance() < 0.5) return { text, bytes: plain, headers: {} }
      const encoding = odd.of(Object.keys(encodings) as (keyof typeof encodings)[])
      const packed = encodings[encoding](plain)
      const bytes = odd.chance() < 0.3 ? packed.subarray(0, packed.length / 2) : packed
      return { text, bytes, headers: { 'content-encoding': odd.chance() < 0.1 ? 'pigeon' : encoding } }
    }
    const put = (path: string, body: object) => send('PUT', base + path, json, JSON.stringify(body))
    const saved = await put('/sources/desk', {
      kind: 'incoming',
      occurrences: '{"type": "desk", "data": $}',
      verify: { by: 'standard-webhooks' },
    })
    const { address, secret } = JSON.parse(saved.text) as { address: string; secret: string }
    const polled = createServer((_, answer) => {
      const { bytes, headers } = oddBody()
      answer.writeHead(odd.of([200, 200, 200, 204, 304, 500]), headers).end(bytes)
    }).listen(0, '127.0.0.1')
    await once(polled, 'listening')
    const { port } = polled.address() as AddressInfo
    note(
      'a polled source',
      await put('/sources/polled', { kind: 'poll', url: `http://127.0.0.1:${port}/`, rows: '$', key: ['id'] }),
    )
    for (let left = count / 20; left > 0; left--) {
      const { text, bytes, headers } = oddBody()
      const at = new Date()
      const signed = {
        'content-type': 'application/json',
        'webhook-id': `odd-${left}`,
        'webhook-timestamp': String(Math.floor(at.getTime() / 1_000)),
        'webhook-signature': new Webhook(secret).sign(`odd-${left}`, at, text),
      }
      note(`incoming ${text}`, await send('POST', new URL(address).pathname, { ...signed, ...headers }, bytes))
      note(`compressed ${text}`, await send('POST', `${base}/occurrences`, { ...json, ...headers }, bytes))
      note('polled', await send('POST', `${base}/sources/polled/try`, json, '{}'))
      const when = Array.from({ length: 1 + Math.floor(odd.chance() ** 3 * 1_000) }, () => odd.of(pieces)).join('')
      const body = { source: 'occurrences', to: { any: ["'user:ada'"] }, content: { title: 'T' }, when }
      note(`trigger ${when}`, await put('/triggers/odd', body))
      note(`rule ${when}`, await send('POST', `${base}/segments/count`, json, JSON.stringify({ rule: when })))
      const tried = await send('POST', `${base}/triggers/odd/try`, json, JSON.stringify({ event: { data: odd.odd() } }))
      if (tried.status !== 404) note(`trial ${when}`, tried)
    }
    polled.close()
    expect({ bad: bad.slice(0, 5), because: bad.length === 0 ? [] : faultsIn(service.log()) }).toEqual({
      bad: [],
      because: [],
    })
    expect((await fetch(`${service.url}/readyz`)).status).toBe(200)
  },
  patience(count * 60),
)

/** What the log says of faults of ours. */
const faultsIn = (log: string): string[] =>
  log
    .split('\n')
    .filter((line) => line.includes('a request failed'))
    .slice(0, 5)
    .map((line) => (JSON.parse(line) as { err: { stack: string } }).err.stack.split('\n').slice(0, 6).join('\n'))
