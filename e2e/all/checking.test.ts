import { readFileSync, writeFileSync } from 'node:fs'
import { createSecureServer } from 'node:http2'
import type { AddressInfo } from 'node:net'
import { createServer, type Server } from 'node:net'
import { basename, join } from 'node:path'
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import type { Credential } from '@zbell/contract'
import { faultProfile, serverCertificate } from '@zbell/standins'
import { dist, patience, until, zbell } from '../harness/programs.ts'
import { app, params, World } from '../harness/world.ts'

let world: World
beforeAll(async () => {
  world = await World.open({ ZB_GATEWAY_TIMEOUT_MS: '800' })
})
afterAll(() => world.close())

const calm = faultProfile.parse({})
const inUse = async (platform: string) => {
  const { items } = await world.backend.call('listCredentials', { params })
  return items.find((one) => one.platform === platform && one.state === 'in-use')!
}
const check = async (platform: string): Promise<Credential['check']> => {
  const { id } = await inUse(platform)
  return (await world.backend.call('checkCredential', { params: { app, id } })).check
}
const cli = (...args: string[]) => zbell(args, { ZBELL_URL: world.url, ZBELL_KEY: world.backendKey, ZBELL_APP: app })

describe('checking a credential', () => {
  test('says that it works, with the round trip, and keeps that', async () => {
    for (const platform of ['ios', 'android']) {
      const found = await check(platform)
      expect(found).toMatchObject({ verdict: 'works', says: expect.stringContaining('accepted the credential') })
      expect(found?.roundTripMs).toBeGreaterThan(0)
      expect((await inUse(platform)).check).toEqual(found)
    }
  })

  test('for the web waits for a browser, and then asks its push service', async () => {
    expect(await check('web')).toMatchObject({
      verdict: 'not-checkable',
      says: expect.stringContaining('once a browser has registered'),
    })
    await world.handset(1, 'web', { user: 'ada' })
    expect(await check('web')).toMatchObject({ verdict: 'works' })
  })

  test.each(['ios', 'android', 'web'] as const)('tells a refusal, %s', async (platform) => {
    const gateway = { ios: world.standins.ios, android: world.standins.android, web: world.standins.push }[platform]
    gateway.faultProfile = { ...calm, refusing: true }
    const found = await check(platform)
    gateway.faultProfile = calm
    expect(found).toMatchObject({ verdict: 'refused', says: expect.stringMatching(/refuses it, with status 40[13]/) })
  })

  test('tells a gateway that is too slow, and disturbs nobody meanwhile', async () => {
    world.standins.ios.faultProfile = { ...calm, delayMs: 3_000 }
    const slow = check('ios')
    expect(await check('android')).toMatchObject({ verdict: 'works' })
    expect(await slow).toMatchObject({
      verdict: 'unreachable',
      says: expect.stringContaining('does not answer in time'),
    })
    world.standins.ios.faultProfile = calm
  })

  test('zbell credential check looks at each one in use, and its exit code says whether all work', async () => {
    const good = await cli('credential', 'check')
    expect([good.code, (good.out.match(/● /g) ?? []).length]).toEqual([0, 3])
    world.standins.ios.faultProfile = { ...calm, refusing: true }
    const bad = await cli('credential', 'check')
    world.standins.ios.faultProfile = calm
    expect(bad.code).toBe(6)
    expect(bad.out).toMatch(/✕ signing-key for ios .*\n {2}The gateway refuses it/)
  })
})

describe('zbell gateway', () => {
  test('shows which gateways there are and what they ask for', async () => {
    const { code, out } = await cli('gateway', 'show')
    expect(code).toBe(0)
    expect(out).toMatch(/ios +standin-ios +the configuration’s +https:\/\/127\.0\.0\.1:\d+ +signing-key +4,096/)
    expect(out).toMatch(/web +the standard +– +each browser’s own +vapid-key/)
  })

  test('tries: the exact request with its secrets masked, and, when sent, the answer explained', async () => {
    const dry = await cli('gateway', 'try', 'ios', '--title', 'Boarding is open')
    expect(dry.out).toMatch(/^POST https:\/\/127\.0\.0\.1:\d+\/ring\/0{16}/)
    expect(dry.out).toContain('authorization: Badge ••••')
    expect(dry.out).toContain('"headline":"Boarding is open"')
    expect(dry.out).toContain('Nothing was sent')
    const sent = await cli('gateway', 'try', 'android', '--send')
    expect(sent.out).toMatch(/\n404\n[\s\S]*"of":"berth"[\s\S]*token-gone: The gateway accepted/)
    const handset = await world.handset(2, 'ios', { user: 'ada' })
    const device = (await handset.view()).device!
    const rung = await cli('gateway', 'try', 'ios', '--device', device, '--title', 'Only a trial', '--send', '--json')
    expect(JSON.parse(rung.out)).toMatchObject({ answer: { status: 200, outcome: 'accepted' } })
    expect(handset.state.lockScreen[0]?.title).toBe('Only a trial')
    expect((await cli('gateway', 'try', 'android', '--device', device)).code).toBe(6)
    expect(JSON.stringify([dry, sent, rung])).not.toMatch(/eyJ[\w-]+\.[\w-]+\.[\w-]+/)
  })

  test('lints a file, each fault with its place', async () => {
    const file = join(world.data, 'profile.yaml')
    writeFileSync(file, 'profile: x\nplatform: pager\n')
    const { code, out } = await cli('gateway', 'lint', file)
    expect(code).toBe(6)
    expect(out).toMatch(/profile\.yaml:2:11 {2}platform: is “pager” and can be ios, android or web/)
    expect((await cli('gateway', 'lint', `${dist}profiles/standin-android.yaml`)).out).toContain('can be used')
  })
})

describe('a gateway that misbehaves is a clear verdict, bounded in time', () => {
  /** A second process of the service that finds the iOS gateway elsewhere. */
  const checkAgainst = async (origin: string, more: Record<string, string> = {}) => {
    const second = await world.startSecond({ ZB_GATEWAY_IOS_ORIGIN: origin, ...more })
    try {
      const startMs = Date.now()
      const { id } = await inUse('ios')
      const { check: found } = await second.client.call('checkCredential', { params: { app, id } })
      return { found, durationMs: Date.now() - startMs }
    } finally {
      await second.stop()
    }
  }
  const listening = async (server: Server) => {
    await new Promise<void>((done) => server.listen(0, '127.0.0.1', done))
    return `https://127.0.0.1:${(server.address() as AddressInfo).port}`
  }

  test('nobody listens', async () => {
    const { found } = await checkAgainst('https://127.0.0.1:1')
    expect(found).toMatchObject({ verdict: 'unreachable', says: expect.stringContaining('Nobody listens') })
  })

  test('its name has no address', async () => {
    const { found } = await checkAgainst('https://gateway.invalid')
    expect(found).toMatchObject({ verdict: 'unreachable', says: expect.stringContaining('has no address') })
  })

  test('its certificate is from an authority that nobody trusts', async () => {
    const { found } = await checkAgainst(world.standins.ios.listener.origin, { ZB_TRUST_CA: '' })
    expect(found).toMatchObject({ verdict: 'unreachable', says: expect.stringContaining('secure connection fails') })
  })

  test('a private authority is trusted where the profile names it, and only there', async () => {
    const dir = join(world.data, 'private-authority')
    const { cert, key, caFile } = serverCertificate(dir)
    const gateway = createSecureServer({ cert, key })
    gateway.on('stream', (stream) => stream.respond({ ':status': 410 }, { endStream: true }))
    await new Promise<void>((done) => gateway.listen(0, '127.0.0.1', done))
    const origin = `https://127.0.0.1:${(gateway.address() as AddressInfo).port}`
    const { found: untrusted } = await checkAgainst(origin)
    expect(untrusted).toMatchObject({ says: expect.stringContaining('secure connection fails') })
    const profile = join(dir, 'profile.yaml')
    const shipped = readFileSync(`${dist}profiles/standin-ios.yaml`, 'utf8')
    writeFileSync(profile, `${shipped}\ncaFile: ${basename(caFile)}\noutdatedFrom: 2026-01-01\n`)
    const { found } = await checkAgainst(origin, { ZB_GATEWAY_IOS_PROFILE: profile })
    expect(found).toMatchObject({ verdict: 'works' })
    gateway.close()
  })

  test('an outdated profile is said by everything that depends on it', async () => {
    const profile = join(world.data, 'private-authority/profile.yaml')
    const second = await world.startSecond({ ZB_GATEWAY_IOS_PROFILE: profile })
    try {
      const env = { ZBELL_URL: second.url, ZBELL_KEY: world.backendKey, ZBELL_APP: app }
      for (const command of [['gateway', 'show'], ['credential', 'list'], ['setup']]) {
        expect((await zbell(command, env)).out).toMatch(/outdated (from|since) 2026-01-01/)
      }
      const metrics = await world.metrics(second.url, 'second')
      expect(metrics).toMatch(
        /zbell_gateway_profile_outdated\{platform="ios",profile="standin-ios",from="2026-01-01"\} 1/,
      )
    } finally {
      await second.stop()
    }
    expect(second.log()).toContain('is marked as outdated')
  })

  test.each([
    ['closes at once', (server: Server) => server.on('connection', (socket) => socket.destroy())],
    [
      'answers garbage',
      (server: Server) => server.on('connection', (socket) => socket.on('error', () => {}).end('hello\r\n'.repeat(50))),
    ],
    ['stalls in the handshake', (server: Server) => server.on('connection', (socket) => socket.on('error', () => {}))],
  ])('one that %s', async (_name, behave) => {
    const server = createServer()
    behave(server)
    const origin = await listening(server)
    const { found, durationMs } = await checkAgainst(origin)
    server.close()
    expect(found?.verdict).toBe('unreachable')
    expect(durationMs).toBeLessThan(patience(10_000))
  })

  test.each([
    ['redirects', { ':status': 302, location: 'https://127.0.0.1:1/' }, 'unexplained', /status 302/],
    [
      'refuses while its clock differs',
      { ':status': 403, date: 'ten minutes behind' },
      'clock-off',
      /clock is (59[0-9]|60[0-9]) seconds ahead/,
    ],
    ['sends an endless header', { ':status': 200, long: 'x'.repeat(200_000) }, 'unreachable', /HTTP\/2|answer in time/],
  ] as const)('one that %s', async (_name, headers, verdict, says) => {
    const { cert, key } = serverCertificate(join(world.data, 'standins/certificates'))
    const gateway = createSecureServer({ cert, key })
    gateway.on('stream', (stream) => {
      stream.on('error', () => {})
      const date = new Date(Date.now() - 600_000).toUTCString()
      stream.respond('date' in headers ? { ...headers, date } : headers, { endStream: true })
    })
    gateway.on('sessionError', () => {})
    await new Promise<void>((done) => gateway.listen(0, '127.0.0.1', done))
    const { found } = await checkAgainst(`https://127.0.0.1:${(gateway.address() as AddressInfo).port}`)
    gateway.close()
    expect(found?.verdict).toBe(verdict)
    expect(found?.says).toMatch(says)
  })

  test('one that never ends its answer', async () => {
    const { cert, key } = serverCertificate(join(world.data, 'standins/certificates'))
    const gateway = createSecureServer({ cert, key })
    gateway.on('stream', (stream) => {
      stream.on('error', () => {})
      stream.respond({ ':status': 410 })
      const drip = setInterval(() => (stream.destroyed ? clearInterval(drip) : stream.write('x')), 50)
    })
    await new Promise<void>((done) => gateway.listen(0, '127.0.0.1', done))
    const { found, durationMs } = await checkAgainst(`https://127.0.0.1:${(gateway.address() as AddressInfo).port}`)
    gateway.close()
    expect(found).toMatchObject({ verdict: 'unreachable' })
    expect(durationMs).toBeLessThan(patience(10_000))
  })
})

test('the end of a certificate is announced in the log and in the metrics', async () => {
  await world.changeDirectly(
    "update credentials set not_after = utc_timestamp(3) + interval 150 hour where platform = 'ios' and slot = 'in-use'",
  )
  const announced = async () => {
    const before = await world.ask("select finished_at from jobs where name = 'announce-expiry'")
    await world.changeDirectly("update jobs set due_at = utc_timestamp(3) where name = 'announce-expiry'")
    // A process that starts looks at once for what is due; one that runs does so once a minute.
    await world.stopService()
    await world.startService()
    await until(
      () => world.ask("select finished_at from jobs where name = 'announce-expiry'"),
      (now) => JSON.stringify(now) !== JSON.stringify(before),
    )
  }
  await announced()
  const second = await world.startSecond()
  const metrics = await world.metrics(second.url, 'second')
  await second.stop()
  const said = () => world.log.split('a credential expires within 7 days').length - 1
  expect(metrics).toMatch(/zbell_credential_days_left\{app="merrow-sound",platform="ios",environment="development"\} 6/)
  await until(said, (times) => times === 1)
  await announced()
  expect(said()).toBe(1)
})
