import { mkdtempSync, readFileSync, rmSync } from 'node:fs'
import { createServer } from 'node:http'
import {
  createSecureServer,
  type Http2SecureServer,
  type Http2ServerRequest,
  type Http2ServerResponse,
} from 'node:http2'
import type { AddressInfo, Socket } from 'node:net'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { createServer as createTlsServer, type Server as TlsServer } from 'node:tls'
import { afterAll, afterEach, beforeAll, describe, expect, test } from '@jest/globals'
import { serverCertificate } from '@zbell/standins'
import { patience } from '../../../e2e/harness/programs.ts'
import { Http1Transport } from '../src/transport/http1-transport.ts'
import { Http2Transport } from '../src/transport/http2-transport.ts'
import { openTransport } from '../src/transport/open-transport.ts'
import { NoAnswer, type Transport, type TransportOptions, unanswered } from '../src/transport/transport.ts'

let dir: string
let certificate: Awaited<ReturnType<typeof serverCertificate>>
let ca: string
let server: Http2SecureServer | undefined
let origin: Transport | undefined
let connections: Socket[]

beforeAll(async () => {
  dir = mkdtempSync(join(tmpdir(), 'bell-origin-'))
  certificate = serverCertificate(dir)
  ca = readFileSync(certificate.caFile, 'utf8')
})
afterAll(() => rmSync(dir, { recursive: true }))
afterEach(async () => {
  for (const connection of connections) connection.destroy()
  await origin?.close()
  server?.close()
})

type Open = (origin: string, options: TransportOptions) => Transport

/** One request as a gateway sees it, in either version of HTTP. */
class Asked {
  readonly #request: Http2ServerRequest
  readonly #response: Http2ServerResponse

  constructor(request: Http2ServerRequest, response: Http2ServerResponse) {
    this.#request = request
    this.#response = response
  }

  get isHttp2(): boolean {
    return this.#request.httpVersionMajor === 2
  }

  get isGone(): boolean {
    return this.#response.destroyed || (this.#response.stream?.destroyed ?? false)
  }

  begin(status: number, headers: Record<string, string> = {}): this {
    this.#response.writeHead(status, headers)
    return this
  }

  write(text: string): void {
    this.#response.write(text)
  }

  end(text = ''): void {
    this.#response.end(text)
  }

  /** This connection carries no further request. */
  sayGoodbye(): void {
    if (this.isHttp2) this.#response.stream.session?.goaway()
    else this.#response.setHeader('connection', 'close')
  }

  cut(): void {
    if (this.isHttp2) this.#response.stream.session?.destroy()
    else this.#request.socket.destroy()
  }
}

async function gateway(answer: (asked: Asked, count: number) => void, open: Open = openTransport, timeoutMs = 10_000) {
  connections = []
  let count = 0
  server = secureServer((asked) => answer(asked, ++count))
  await new Promise<void>((done) => server!.listen(0, '127.0.0.1', done))
  origin = open(`https://127.0.0.1:${(server.address() as AddressInfo).port}`, { ca: [ca], timeoutMs })
  return origin
}

function secureServer(answer: (asked: Asked) => void): Http2SecureServer {
  const { cert, key } = certificate
  const made = createSecureServer({ cert, key, allowHTTP1: true }, (request, response) => {
    request.on('error', () => {})
    response.on('error', () => {})
    // What it is asked is here in whole first, as with any gateway.
    request.resume()
    answer(new Asked(request, response))
  })
  made.on('secureConnection', (socket: Socket) => {
    socket.on('error', () => {})
    connections.push(socket)
  })
  return made
}

const failure = async (asked: Promise<unknown>): Promise<string> => {
  const error = await asked.then(
    () => undefined,
    (one: unknown) => one,
  )
  if (!(error instanceof NoAnswer)) throw new Error(`expected no answer, got ${String(error)}`)
  return error.code
}
const exchange = (one: Transport) => one.request({ method: 'POST', path: '/x', headers: { a: 'b' }, body: 'body' })
const ask = (one: Transport) => exchange(one).answer
const fine = (asked: Asked) => asked.begin(200, { slip: 'a-1' }).end()

describe('a gateway that does not answer', () => {
  test('rests after ten failures, is probed by one, and is asked again when it is back', async () => {
    await gateway(fine)
    const { port } = server!.address() as AddressInfo
    await new Promise((done) => server!.close(done))
    for (let i = 0; i < 10; i++) expect(await failure(ask(origin!))).toBe('ECONNREFUSED')
    const resting = await ask(origin!).catch((error: unknown) => error as NoAnswer)
    expect(resting).toMatchObject({ code: 'RESTING' })
    expect(unanswered(resting as NoAnswer)).toMatchObject({ is: 'unavailable', untried: true })
    expect((resting as NoAnswer).backoffMs).toBeLessThanOrEqual(1_000)
    server = secureServer(fine)
    await new Promise<void>((done) => server!.listen(port, '127.0.0.1', done))
    await new Promise((done) => setTimeout(done, 1_050))
    expect((await ask(origin!)).status).toBe(200)
    expect(
      (await Promise.all(Array.from({ length: 20 }, () => ask(origin!)))).every(({ status }) => status === 200),
    ).toBe(true)
  })
  test('but only lost a connection with much on its way goes on at once', async () => {
    let allAreThere: () => void = () => {}
    const there = new Promise<void>((done) => {
      allAreThere = done
    })
    const one = await gateway((asked, count) => {
      if (count === 50) allAreThere()
      if (count > 50) fine(asked)
    })
    const lost = Array.from({ length: 50 }, () => failure(ask(one)))
    await there
    connections[0]!.destroy()
    expect(new Set(await Promise.all(lost)).has('RESTING')).toBe(false)
    expect((await ask(one)).status).toBe(200)
  })
})

/** Whatever fills the port comes into this list; and whether it carries many requests at a time over one connection. */
const fillings: [string, boolean, Open][] = [
  ['node:http2', true, (address, options) => new Http2Transport(address, options)],
  ['node:http2 with all that is wrapped around it', true, openTransport],
  ['undici, HTTP/1.1', false, (address, options) => new Http1Transport(address, options)],
  [
    'undici with all that is wrapped around it',
    false,
    (address, given) => openTransport(address, { ...given, http: 1.1 }),
  ],
]

describe.each(fillings)('a connection to a gateway by %s', (_name, isShared, open) => {
  test('is opened once for many requests, and gives answers with headers and body', async () => {
    const one = await gateway((asked, count) => asked.begin(400, { slip: `a-${count}` }).end('{"why":"so"}'), open)
    const answers = await Promise.all(Array.from({ length: 20 }, () => ask(one)))
    expect(answers[0]).toMatchObject({
      status: 400,
      headers: { slip: expect.stringMatching(/^a-/) },
      body: '{"why":"so"}',
    })
    if (isShared) expect(connections).toHaveLength(1)
    else {
      await ask(one)
      // Those that are there are used again.
      expect(connections.length).toBeLessThanOrEqual(20)
    }
  })

  test('is opened anew after the gateway said goodbye, and nothing on its way is lost', async () => {
    const one = await gateway((asked, count) => {
      if (count === 1) asked.sayGoodbye()
      setTimeout(() => fine(asked), 20)
    }, open)
    expect((await ask(one)).status).toBe(200)
    expect((await ask(one)).status).toBe(200)
    expect(connections.length).toBeGreaterThanOrEqual(1)
  })

  test('that is cut fails what was on its way, and the next request finds a new one', async () => {
    const one = await gateway((asked, count) => (count === 1 ? asked.cut() : fine(asked)), open)
    expect(await failure(ask(one))).not.toBe('')
    expect((await ask(one)).status).toBe(200)
  })

  test('that is told to let go of a request lets go of it, and goes on with others', async () => {
    const one = await gateway((asked, count) => {
      if (count === 2) fine(asked)
    }, open)
    const silent = exchange(one)
    const ended = failure(silent.answer)
    expect((await ask(one)).status).toBe(200)
    expect(silent.headCame).toBe(false)
    silent.cancel()
    expect(await ended).toBe('ECONNRESET')
    const late = exchange(one)
    const given = failure(late.answer)
    late.cancel(new NoAnswer(one.address, 'ETIMEDOUT'))
    expect(await given).toBe('ETIMEDOUT')
    if (isShared) expect(connections).toHaveLength(1)
  })

  test('lets what is on its way arrive before it closes', async () => {
    let come: (asked: Asked) => void = () => {}
    const there = new Promise<Asked>((done) => {
      come = done
    })
    const one = await gateway((asked) => come(asked), open)
    const answered = ask(one)
    const asked = await there
    const closed = one.close()
    fine(asked)
    expect((await answered).status).toBe(200)
    await closed
  })

  test('that cannot be made says so instead of throwing', async () => {
    await gateway(fine, open)
    const nowhere = open('https://127.0.0.1:1', { ca: [ca], timeoutMs: 5_000 })
    expect(await failure(ask(nowhere))).toBe('ECONNREFUSED')
    await nowhere.close()
  })

  test('reads no more of an answer than it needs', async () => {
    const one = await gateway((asked) => asked.begin(500).end('x'.repeat(5_000_000)), open)
    const answer = await ask(one)
    expect(answer.status).toBe(500)
    expect(answer.body.length).toBeLessThanOrEqual(16_384)
  })

  test('to an authority that is not trusted is not made', async () => {
    await gateway(fine, open)
    const address = `https://127.0.0.1:${(server!.address() as AddressInfo).port}`
    const stranger = open(address, { ca: [], timeoutMs: 500 })
    expect(await failure(ask(stranger))).toMatch(/UNABLE_TO|SELF_SIGNED/)
    await stranger.close()
  })
})

test.each([
  ['HTTP/2', openTransport],
  ['HTTP/1.1', (address, given) => openTransport(address, { ...given, http: 1.1 })],
] as [string, Open][])(
  'a connection by %s gives up on an answer that does not come, or does not end',
  async (_name, open) => {
    const one = await gateway(
      (asked, count) => {
        if (count === 1) return
        asked.begin(200)
        const drip = setInterval(() => (asked.isGone ? clearInterval(drip) : asked.write('x')), 20)
      },
      open,
      200,
    )
    const startMs = Date.now()
    expect(await failure(ask(one))).toBe('ETIMEDOUT')
    expect(await failure(ask(one))).toBe('ETIMEDOUT')
    expect(Date.now() - startMs).toBeLessThan(patience(10_000))
  },
)

describe('a connection by either version', () => {
  const either: Open = (address, given) => openTransport(address, { ...given, http: 'either' })
  /** @param negotiates whether the server takes part in choosing a protocol, and says no */
  async function older(negotiates: boolean): Promise<{ readonly origin: string; readonly asked: string[] }> {
    connections = []
    const asked: string[] = []
    const { cert, key } = certificate
    const http1 = createServer((request, response) => {
      asked.push(`${request.httpVersion} ${request.method} ${request.url}`)
      request.resume().on('end', () => response.writeHead(201, { slip: 'a-1' }).end())
    })
    const secure = createTlsServer({ cert, key, ...(negotiates ? { ALPNProtocols: ['http/1.1'] } : {}) }, (socket) => {
      socket.on('error', () => {})
      connections.push(socket)
      http1.emit('connection', socket)
    })
    secure.on('tlsClientError', () => {})
    await new Promise<void>((done) => secure.listen(0, '127.0.0.1', done))
    olderServer = secure
    return { origin: `https://127.0.0.1:${(secure.address() as AddressInfo).port}`, asked }
  }
  let olderServer: TlsServer | undefined
  afterEach(() => {
    olderServer?.close()
  })

  test('is HTTP/2 where that is spoken', async () => {
    let isHttp2: boolean | undefined
    const one = await gateway((asked) => {
      isHttp2 = asked.isHttp2
      fine(asked)
    }, either)
    expect([(await ask(one)).status, isHttp2]).toEqual([200, true])
  })

  test.each([
    ['says so', true],
    ['knows no other protocol to choose from', false],
  ])('is HTTP/1.1 to a server that %s, and each request goes out once', async (_says, negotiates) => {
    const { origin: address, asked } = await older(negotiates)
    origin = either(address, { ca: [ca], timeoutMs: 10_000, strangerMs: 5_000 })
    const answers = await Promise.all([ask(origin), ask(origin), ask(origin)])
    answers.push(await ask(origin))
    expect(answers.map(({ status, headers }) => [status, headers.slip])).toEqual(Array(4).fill([201, 'a-1']))
    expect(asked).toEqual(Array(4).fill('1.1 POST /x'))
  })

  test('is not made by a connection that speaks HTTP/2 alone', async () => {
    const { origin: address } = await older(false)
    origin = openTransport(address, { ca: [ca], timeoutMs: 10_000 })
    expect(await failure(ask(origin))).toBe('NO_HTTP2')
  })
})
