import type { ChildProcess } from 'node:child_process'
import { mkdtempSync, readFileSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import type { Delivery, Device, Handset, Setup } from '@zbell/contract'
import { ended, saidBy, startProgram, until, zbell } from '../harness/programs.ts'

/** A service of one's own with handsets beside it: no credential, no profile, no demo. */
const data = mkdtempSync(join(tmpdir(), 'bell-rehearsal-'))
let service: ChildProcess
let url: string
let env: Record<string, string>
const start = async () => {
  const serve = { PATH: process.env.PATH, ZB_DATA: data, ZB_PORT: '0', ZB_LOG_LEVEL: 'warn' }
  const { child, ready } = await startProgram<{ url: string; operatorKeyFile: string }>(
    'zbell.mjs',
    ['serve', '--handsets', '--json'],
    serve,
  )
  service = child
  url = ready.url
  const key = readFileSync(ready.operatorKeyFile, 'utf8').trim()
  env = { ZBELL_URL: url, ZBELL_KEY: key, ZBELL_APP: 'gull-guide', ZBELL_ENVIRONMENT: 'development' }
}
const stop = async () => {
  service.kill('SIGTERM')
  await ended(service)
}
const run = (...args: string[]) => zbell(args, env)
const json = async <T>(...args: string[]): Promise<T> => JSON.parse((await run(...args, '--json')).out) as T
const stateOf = (setup: Setup, platform: string, step: string) =>
  setup.platforms.find((one) => one.platform === platform)?.steps.find((one) => one.step === step)?.state

beforeAll(async () => {
  await start()
  await run('app', 'new', 'gull-guide', '--name', 'Gull Guide')
})
afterAll(async () => {
  await stop()
  rmSync(data, { recursive: true, force: true })
})

describe('an app without any credential', () => {
  test('is told all that is missing, and that it can rehearse', async () => {
    const { out, code } = await run('setup')
    expect(code).toBe(0)
    expect(out).toContain('gull-guide in development')
    expect(out).toMatch(/○ identifier +The app’s bundle identifier is not known\.\n +next +Give the bundle identifier/)
    expect(out).toContain('Rehearse: zbell handset new --platform ios')
  })

  test.each(['ios', 'android', 'web'])(
    'rings a new handset on %s, and says that it was a rehearsal',
    async (platform) => {
      const made = await run('handset', 'new', '--platform', platform, '--user', `of-${platform}`)
      expect(made).toMatchObject({ code: 0, err: '' })
      expect(made.out).toContain(`${platform}-1 is switched on, as device`)
      const sent = await run('send', '--to', `user:of-${platform}`, '--title', 'A first ring')
      expect(sent.code).toBe(0)
      expect(sent.out).toMatch(/accepted {2}rehearsal/)
      expect(sent.out).toContain('1 device: 1 shown.')
      expect((await run('handset', 'show', `${platform}-1`)).out).toContain('│ A first ring')
      const { items } = await json<{ items: Device[] }>('device', 'list', '--platform', platform)
      expect(items).toMatchObject([{ rehearsal: true, user: `of-${platform}` }])
      const setup = await json<Setup>('setup')
      for (const step of ['device', 'ring', 'receipt']) expect(stateOf(setup, platform, step)).toBe('rehearsed')
      expect(stateOf(setup, platform, 'credential')).toBe('open')
    },
  )

  test('a platform’s own device still misses its credential, beside handsets that ring', async () => {
    const key = (await run('key', 'new', 'In the app', '--kind', 'app')).out.trim()
    const own = await fetch(`${url}/v1/devices`, {
      method: 'POST',
      headers: { authorization: `Bearer ${key}`, 'content-type': 'application/json' },
      body: JSON.stringify({
        platform: 'ios',
        token: 'a-real-token-of-a-phone',
        permission: 'granted',
        user: 'of-ios',
      }),
    })
    expect(own.status).toBe(201)
    const sent = await json<{ deliveries: Delivery[] }>('send', '--to', 'user:of-ios', '--title', 'Both')
    const became = sent.deliveries.map(({ rehearsal, state, reason }) => [rehearsal, state, reason?.code])
    expect(became.sort()).toEqual([
      [false, 'refused', 'no-credential'],
      [true, 'shown', undefined],
    ])
  })

  test('the request to a handset can be looked at as any other', async () => {
    const { items } = await json<{ items: Device[] }>('device', 'list', '--platform', 'android')
    const tried = await run('gateway', 'try', 'android', '--device', items[0]!.id)
    expect(tried.out).toMatch(/"berth":"handset-/)
    expect(tried.out).toContain('Bearer ••••')
  })
})

describe('handsets', () => {
  test('are found again after a restart, though the service is somewhere else', async () => {
    const before = await json<{ items: Handset[] }>('handset', 'list')
    await stop()
    await start()
    const after = await until(
      () => json<{ items: Handset[] }>('handset', 'list'),
      ({ items }) => items.length === before.items.length,
    )
    expect(after.items.map(({ id, device }) => [id, device])).toEqual(
      before.items.map(({ id, device }) => [id, device]),
    )
    expect((await run('send', '--to', 'user:of-web', '--title', 'Still here')).out).toContain('1 device: 1 shown.')
  })

  test('have names of their own in each app, none twice', async () => {
    await run('app', 'new', 'gull-crew', '--name', 'Gull Crew')
    const there = await run('handset', 'new', '--platform', 'ios', '--app', 'gull-crew', '--id', 'ios-1')
    expect(there.code).toBe(0)
    const again = await run('handset', 'new', '--platform', 'ios', '--id', 'ios-1')
    expect([again.code, again.err]).toEqual([6, 'zbell: There is a handset ios-1 already; choose another one.\n'])
    const other = await json<{ items: Handset[] }>('handset', 'list', '--app', 'gull-crew')
    expect(other.items.map(({ id, lockScreen }) => [id, lockScreen.length])).toEqual([['ios-1', 0]])
  })

  test('get another key by themselves when theirs was revoked', async () => {
    const { items } = await json<{ items: { id: string; name: string }[] }>('key', 'list')
    const own = items.find(({ name }) => name === 'Virtual handsets')!
    expect((await run('key', 'revoke', own.id)).code).toBe(0)
    expect((await run('handset', 'new', '--platform', 'ios')).code).toBe(0)
  })

  test('rehearse in development only: neither made nor registered in production', async () => {
    const made = await run('handset', 'new', '--platform', 'ios', '--environment', 'production')
    expect(made).toMatchObject({ code: 6, err: expect.stringContaining('in development only') })
    const key = (await run('key', 'new', 'Live', '--kind', 'app', '--environment', 'production')).out.trim()
    const body = { platform: 'ios', token: 'handset-smuggled-into-production', permission: 'granted' }
    const answer = await fetch(`${url}/v1/devices`, {
      method: 'POST',
      headers: { authorization: `Bearer ${key}`, 'content-type': 'application/json' },
      body: JSON.stringify(body),
    })
    expect(answer.status).toBe(422)
    expect(await answer.json()).toMatchObject({ errors: [{ pointer: '/token' }] })
  })

  test('are no way around the guard of private addresses', async () => {
    const key = (await run('key', 'new', 'Attack', '--kind', 'app')).out.trim()
    const keys = { p256dh: Buffer.from(await rawPoint()).toString('base64url'), auth: 'A'.repeat(22) }
    const answer = await fetch(`${url}/v1/devices`, {
      method: 'POST',
      headers: { authorization: `Bearer ${key}`, 'content-type': 'application/json' },
      body: JSON.stringify({
        platform: 'web',
        permission: 'granted',
        subscription: { endpoint: 'https://127.0.0.1:22/push/handset-1', keys },
      }),
    })
    expect(answer.status).toBe(422)
    expect(await answer.json()).toMatchObject({
      errors: [{ detail: expect.stringMatching(/leads where the service may not call: .* is in a private network/) }],
    })
  })

  test('end with the service, also when it is killed', async () => {
    service.kill('SIGKILL')
    await ended(service)
    const { execFileSync } = await import('node:child_process')
    await until(
      () => execFileSync('ps', ['-eo', 'args'], { encoding: 'utf8' }),
      (all) => !all.includes(`handsets.mjs ${data}`),
    )
    expect(saidBy(service)).not.toContain('"level":50')
    await start()
  })
})

async function rawPoint(): Promise<ArrayBuffer> {
  const { publicKey } = await crypto.subtle.generateKey({ name: 'ECDH', namedCurve: 'P-256' }, true, ['deriveBits'])
  return crypto.subtle.exportKey('raw', publicKey)
}
