import { mkdtempSync, readFileSync, rmSync } from 'node:fs'
import { createSecureServer, type Http2SecureServer, type ServerHttp2Session, type ServerHttp2Stream } from 'node:http2'
import type { AddressInfo } from 'node:net'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { afterAll, afterEach, beforeAll, describe, expect, test } from '@jest/globals'
import { serverCertificate } from '@zbell/standins'
import { patience } from '../../../e2e/harness/programs.ts'
import { Http2Transport } from '../src/gateways/transport/http2-transport.ts'
import { openTransport } from '../src/gateways/transport/open-transport.ts'
import { NoAnswer, type Transport, type TransportOptions, unanswered } from '../src/gateways/transport/transport.ts'

let dir: string
let certificate: Awaited<ReturnType<typeof serverCertificate>>
let ca: string
let server: Http2SecureServer | undefined
let origin: Transport | undefined
let sessions: ServerHttp2Session[]

beforeAll(async () => {
  dir = mkdtempSync(join(tmpdir(), 'bell-origin-'))
  certificate = serverCertificate(dir)
  ca = readFileSync(certificate.caFile, 'utf8')
})
afterAll(() => rmSync(dir, { recursive: true }))
afterEach(async () => {
  for (const session of sessions) session.destroy()
  await origin?.close()
  server?.close()
})

type Open = (origin: string, options: TransportOptions) => Transport

async function gateway(
  answer: (stream: ServerHttp2Stream, count: number) => void,
  open: Open = openTransport,
  timeoutMs = 10_000,
) {
  sessions = []
  let count = 0
  server = createSecureServer({ cert: certificate.cert, key: certificate.key })
  server.on('session', (session) => sessions.push(session))
  server.on('stream', (stream) => {
    stream.on('error', () => {})
    answer(stream, ++count)
  })
  await new Promise<void>((done) => server!.listen(0, '127.0.0.1', done))
  origin = open(`https://127.0.0.1:${(server.address() as AddressInfo).port}`, { ca: [ca], timeoutMs })
  return origin
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
const fine = (stream: ServerHttp2Stream) => stream.respond({ ':status': 200, slip: 'a-1' }, { endStream: true })

describe('a gateway that does not answer', () => {
  test('rests after ten failures, is probed by one, and is asked again when it is back', async () => {
    await gateway(fine)
    const { port } = server!.address() as AddressInfo
    await new Promise((done) => server!.close(done))
    for (let i = 0; i < 10; i++) expect(await failure(ask(origin!))).toBe('ECONNREFUSED')
    const resting = await ask(origin!).catch((error: unknown) => error as NoAnswer)
    expect(resting).toMatchObject({ code: 'RESTING' })
    expect(unanswered(resting as NoAnswer)).toMatchObject({ is: 'unavailable', untried: true })
    expect((resting as NoAnswer).restMs).toBeLessThanOrEqual(1_000)
    server = createSecureServer({ cert: certificate.cert, key: certificate.key })
    server.on('session', (session) => sessions.push(session))
    server.on('stream', fine)
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
    const one = await gateway((stream, count) => {
      if (count === 50) allAreThere()
      if (count > 50) fine(stream)
    })
    const lost = Array.from({ length: 50 }, () => failure(ask(one)))
    await there
    sessions[0]!.destroy()
    expect(new Set(await Promise.all(lost)).has('RESTING')).toBe(false)
    expect((await ask(one)).status).toBe(200)
  })
})

/** Whatever fills the port comes into this list. */
const fillings: [string, Open][] = [
  ['node:http2', (address, options) => new Http2Transport(address, options)],
  ['node:http2 with all that is wrapped around it', openTransport],
]

describe.each(fillings)('a connection to a gateway by %s', (_name, open) => {
  test('is opened once for many requests, and gives answers with headers and body', async () => {
    const one = await gateway((stream, count) => {
      stream.respond({ ':status': 400, slip: `a-${count}` })
      stream.end('{"why":"so"}')
    }, open)
    const answers = await Promise.all(Array.from({ length: 20 }, () => ask(one)))
    expect(answers[0]).toMatchObject({
      status: 400,
      headers: { slip: expect.stringMatching(/^a-/) },
      body: '{"why":"so"}',
    })
    expect(sessions).toHaveLength(1)
  })

  test('is opened anew after the gateway said goodbye, and nothing on its way is lost', async () => {
    const one = await gateway((stream, count) => {
      if (count === 1) stream.session?.goaway()
      setTimeout(() => fine(stream), 20)
    }, open)
    expect((await ask(one)).status).toBe(200)
    expect((await ask(one)).status).toBe(200)
    expect(sessions.length).toBeGreaterThanOrEqual(1)
  })

  test('that is cut fails what was on its way, and the next request finds a new one', async () => {
    const one = await gateway((stream, count) => (count === 1 ? stream.session?.destroy() : fine(stream)), open)
    expect(await failure(ask(one))).not.toBe('')
    expect((await ask(one)).status).toBe(200)
  })

  test('that is told to let go of a request lets go of it, and goes on with others', async () => {
    const one = await gateway((stream, count) => {
      if (count === 2) fine(stream)
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
    expect(sessions).toHaveLength(1)
  })

  test('lets what is on its way arrive before it closes', async () => {
    let come: (stream: ServerHttp2Stream) => void = () => {}
    const there = new Promise<ServerHttp2Stream>((done) => {
      come = done
    })
    const one = await gateway((stream) => come(stream), open)
    const answered = ask(one)
    const stream = await there
    const closed = one.close()
    fine(stream)
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
    const one = await gateway((stream) => {
      stream.respond({ ':status': 500 })
      stream.end('x'.repeat(5_000_000))
    }, open)
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

test('a connection gives up on an answer that does not come, or does not end', async () => {
  const one = await gateway(
    (stream, count) => {
      if (count === 1) return
      stream.respond({ ':status': 200 })
      const drip = setInterval(() => (stream.destroyed ? clearInterval(drip) : stream.write('x')), 20)
    },
    openTransport,
    200,
  )
  const startMs = Date.now()
  expect(await failure(ask(one))).toBe('ETIMEDOUT')
  expect(await failure(ask(one))).toBe('ETIMEDOUT')
  expect(Date.now() - startMs).toBeLessThan(patience(10_000))
})
