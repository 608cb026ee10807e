import { mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs'
import { connect as connectPlainly, type Socket } from 'node:net'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { connect } from 'node:tls'
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import { serverCertificate } from '@zbell/standins'
import { until } from '../harness/programs.ts'
import { World } from '../harness/world.ts'

type Process = Awaited<ReturnType<World['startSecond']>>

let world: World
beforeAll(async () => {
  world = await World.open()
})
afterAll(() => world.close())

const call = async (url: string, method: string, path: string, headers: Record<string, string>, body: object) => {
  const answer = await fetch(url + path, {
    method,
    headers: { 'content-type': 'application/json', ...headers },
    body: JSON.stringify(body),
  })
  return { status: answer.status, headers: answer.headers, body: (await answer.json()) as Record<string, unknown> }
}

describe('behind a proxy', () => {
  let second: Process
  beforeAll(async () => {
    second = await world.startSecond({
      ZB_TRUSTED_PROXIES: '127.0.0.1',
      ZB_PUBLIC_URL: 'https://bell.merrow-sound.example',
      ZB_REGISTRATIONS_PER_MINUTE: '5',
    })
  })
  afterAll(() => second.stop())

  const register = (address: string, key = world.appKey) =>
    call(
      second.url,
      'POST',
      '/v1/devices',
      { authorization: `Bearer ${key}`, forwarded: `for=${address};proto=https` },
      { platform: 'ios', token: world.standins.mints.ios.mint() },
    ).then(({ status }) => status)

  test('each phone has limits of its own, and whoever has no key uses up nobody’s', async () => {
    for (let n = 0; n < 20; n++) expect(await register('192.0.2.1', 'zb-app-of-nobody')).toBe(401)
    for (let n = 0; n < 5; n++) expect(await register('192.0.2.1')).toBe(201)
    expect(await register('192.0.2.1')).toBe(429)
    expect(await register('192.0.2.2')).toBe(201)
    // IPv6: whoever has a house’s network has one limit for all of it.
    for (let n = 0; n < 5; n++) expect(await register(`"[2001:db8:0:7::${n}]"`)).toBe(201)
    expect(await register('"[2001:db8:0:7::99]"')).toBe(429)
    expect(second.log()).toContain('a limit was reached')
    expect(second.log()).not.toContain('ValidationError')
  })

  test('whoever guesses a password slows down their own address, and keeps nobody out', async () => {
    const account = { email: 'pilot@merrow-sound.example', name: 'Pilot', role: 'viewer' as const }
    await world.operator.call('makeAccount', { body: { ...account, password: 'the bell at the pier' } })
    const signIn = (address: string, password: string, cookie = '') =>
      call(
        second.url,
        'POST',
        '/v1/session',
        { forwarded: `for=${address};proto=https`, cookie },
        { email: account.email, password },
      )
    // From six addresses, as many at once as each may.
    const guesses = Array.from({ length: 6 }, (_, n) => n).flatMap((n) =>
      Array.from({ length: 10 }, (_, i) => signIn(`198.51.100.${n}`, `guess ${i}`)),
    )
    const own = await signIn('192.0.2.99', 'the bell at the pier')
    expect(own.status).toBe(200)
    const [, browser = ''] = /(__Host-bell_browser=[^;]+)/.exec(own.headers.get('set-cookie') ?? '') ?? []
    // A browser that is known is not held up by the wrong ones before it at its address.
    for (let n = 0; n < 5; n++) void signIn('203.0.113.7', 'another guess')
    expect((await signIn('203.0.113.7', 'the bell at the pier', browser)).status).toBe(200)
    expect(new Set((await Promise.all(guesses)).map(({ status }) => status))).not.toContain(200)
  })

  test('the cookie belongs to this host and to https, and pages say to come by https', async () => {
    const account = { email: 'quay@merrow-sound.example', name: 'Quay', role: 'viewer' as const }
    await world.operator.call('makeAccount', { body: { ...account, password: 'a pier by the bay' } })
    const { status, headers } = await call(
      second.url,
      'POST',
      '/v1/session',
      { 'x-forwarded-for': '192.0.2.77' },
      { email: account.email, password: 'a pier by the bay' },
    )
    expect(status).toBe(200)
    const cookie = headers.get('set-cookie') ?? ''
    expect(cookie).toMatch(/^__Host-bell_session=[^;]+; .*Path=\/; .*HttpOnly; Secure; SameSite=Strict/)
    expect(cookie).not.toMatch(/Domain/)
    const [session = ''] = cookie.split(';')
    expect((await fetch(`${second.url}/v1/session`, { headers: { cookie: session } })).status).toBe(200)
    const page = await fetch(`${second.url}/`, { headers: { accept: 'text/html' } })
    expect(page.headers.get('strict-transport-security')).toBe('max-age=31536000')
  })
})

test('without a word of proxies in the configuration nobody is believed, and the log says once what is missing', async () => {
  const second = await world.startSecond()
  for (let n = 0; n < 3; n++) await fetch(`${second.url}/livez`, { headers: { 'x-forwarded-for': '192.0.2.1' } })
  await second.stop()
  expect(second.log().match(/unless http.trustedProxies names it/g)).toHaveLength(1)
  expect(second.log().match(/http.publicUrl is missing/g)).toHaveLength(1)
})

test('one address takes no more than its share of the connections, and whoever says nothing is let go', async () => {
  const second = await world.startSecond({ ZB_MAX_CONNECTIONS_OF_ADDRESS: '20' })
  const sockets: Socket[] = []
  let closed = 0
  try {
    for (let n = 0; n < 25; n++) {
      const socket = connectPlainly(Number(new URL(second.url).port), '127.0.0.1')
      socket.on('error', () => {})
      socket.resume().on('close', () => closed++)
      // A head that never ends.
      socket.write('GET /livez HTTP/1.1\r\nHost: bell\r\nX-Slow: ')
      sockets.push(socket)
    }
    await until(
      () => closed,
      (count) => count >= 5,
    )
    await until(
      () => closed,
      (count) => count === 25,
    )
    // A connection that this process kept may have been closed meanwhile.
    await until(
      () =>
        fetch(`${second.url}/livez`).then(
          ({ status }) => status,
          () => 0,
        ),
      (status) => status === 200,
    )
  } finally {
    for (const socket of sockets) socket.destroy()
    await second.stop()
  }
})

test('it speaks https by itself, and takes a renewed certificate up while it runs', async () => {
  const dir = mkdtempSync(join(tmpdir(), 'bell-https-'))
  const [first, renewed] = ['first', 'renewed'].map((name) => {
    const { caFile } = serverCertificate(join(dir, name))
    const read = (file: string) => readFileSync(join(dir, name, file))
    return { ca: readFileSync(caFile), cert: read('server.pem'), key: read('server-key.pem') }
  }) as [Pair, Pair]
  type Pair = { ca: Buffer; cert: Buffer; key: Buffer }
  const files = { ZB_TLS_CERT: join(dir, 'cert.pem'), ZB_TLS_KEY: join(dir, 'key.pem') }
  const put = (what: 'cert' | 'key', pair: Pair) =>
    writeFileSync(what === 'cert' ? files.ZB_TLS_CERT : files.ZB_TLS_KEY, pair[what])
  put('cert', first)
  put('key', first)
  const second = await world.startSecond(files)
  expect(second.url).toMatch(/^https:/)
  /** Whether whoever trusts this authority alone gets through. */
  const trusted = (ca: Buffer) =>
    new Promise<boolean>((done) => {
      const socket = connect({ host: '127.0.0.1', port: Number(new URL(second.url).port), ca }, () => {
        done(true)
        socket.destroy()
      })
      socket.once('error', () => done(false))
    })
  expect([await trusted(first.ca), await trusted(renewed.ca)]).toEqual([true, false])
  // Half of a renewal: the pair that was there stays.
  put('cert', renewed)
  await until(
    () => second.log(),
    (log) => log.includes('the one before stays'),
  )
  expect(await trusted(first.ca)).toBe(true)
  put('key', renewed)
  await until(
    () => trusted(renewed.ca),
    (is) => is,
  )
  await second.stop()
  rmSync(dir, { recursive: true, force: true })
})
