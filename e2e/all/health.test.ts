import { mkdtempSync, readFileSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { afterAll, beforeAll, beforeEach, describe, expect, test } from '@jest/globals'
import type { Day } from '@zbell/contract'
import { faultProfile } from '@zbell/standins'
import { until, zbell } from '../harness/programs.ts'
import { app, params, World } from '../harness/world.ts'

let world: World
let dir: string
beforeAll(async () => {
  world = await World.open({ ZB_GATEWAY_TIMEOUT_MS: '700' })
  await world.handset(1, 'ios', { user: 'ada' })
  await world.handset(2, 'android', { user: 'signe' })
  await world.handset(3, 'android', { user: 'nour', permission: 'denied' })
  dir = mkdtempSync(join(tmpdir(), 'bell-health-'))
})
afterAll(async () => {
  await world.close()
  rmSync(dir, { recursive: true, force: true })
})
const calm = faultProfile.parse({})
beforeEach(() => {
  world.standins.ios.faultProfile = calm
})

const cli = (...args: string[]) => zbell(args, { ZBELL_URL: world.url, ZBELL_KEY: world.backendKey, ZBELL_APP: app })
const health = () => world.backend.call('readHealth', { params })
const today = async (): Promise<Day | undefined> =>
  (await world.backend.call('listDays', { params, query: { days: 1 } })).items[0]
const over = (id: string) =>
  until(
    () => world.notification(id),
    ({ state, totals }) => state === 'finished' && totals.accepted + totals.received === 0,
  )
const iosNow = async () => (await health()).processes[0]?.gateways.find(({ platform }) => platform === 'ios')

describe('days', () => {
  test('add up to what became of the notifications, and say how long each step took', async () => {
    for (const title of ['One', 'Two', 'Three'])
      await over(await world.send({ to: { any: ['everyone'] }, content: { title } }))
    const day = await today()
    expect(day).toMatchObject({
      day: new Date().toISOString().slice(0, 10),
      counts: { accepted: 6, received: 6, shown: 6, skipped: 3 },
      platforms: { ios: { accepted: 3, shown: 3 }, android: { accepted: 3, shown: 3, skipped: 3 } },
      reasons: [{ code: 'permission-denied', count: 3 }],
    })
    expect(day?.steps.map(({ step, count }) => [step, count])).toEqual([
      ['accepted', 6],
      ['received', 6],
      ['shown', 6],
    ])
    for (const { medianMs, p90Ms, p99Ms } of day!.steps) {
      expect(medianMs).toBeGreaterThan(0)
      expect(p90Ms).toBeGreaterThanOrEqual(medianMs)
      expect(p99Ms).toBeGreaterThanOrEqual(p90Ms)
      expect(p99Ms).toBeLessThan(20_000)
    }
  })

  test('count a receipt once, however often it comes, and an opening when it comes', async () => {
    const before = (await today())!.counts
    const { device, secret } = await register()
    const id = await world.send({ to: { any: [`device:${device}`] }, content: { title: 'T' } })
    await until(
      () => world.notification(id),
      ({ totals }) => totals.accepted === 1,
    )
    const report = (state: string) =>
      fetch(`${world.url}/v1/devices/me/receipts`, {
        method: 'POST',
        headers: { authorization: `Bearer ${secret}`, 'content-type': 'application/json' },
        body: JSON.stringify({ receipts: [{ notification: id, state, at: new Date().toISOString() }] }),
      })
    for (const state of ['shown', 'shown', 'received', 'opened', 'opened']) await report(state)
    const after = (await today())!.counts
    const more = (state: keyof typeof after) => (after[state] ?? 0) - (before[state] ?? 0)
    expect([more('accepted'), more('shown'), more('opened')]).toEqual([1, 1, 1])
    expect((await today())!.steps.find(({ step }) => step === 'opened')?.count).toBe(after.opened)
  })

  test('are told on the command line, and are nobody else’s', async () => {
    const { out } = await cli('days')
    expect(out.split('\n')[0]).toMatch(/^day \(UTC\) +accepted +received +shown +opened/)
    expect(out).toContain(new Date().toISOString().slice(0, 10))
    await world.makeApp('other-boats')
    const days = await world.operator.call('listDays', {
      params: { app: 'other-boats' },
      query: { environment: 'development' },
    })
    expect(days.items).toEqual([])
  })
})

/** A phone without a kit, which reports what the test says. */
async function register(): Promise<{ device: string; secret: string }> {
  const answer = await fetch(`${world.url}/v1/devices`, {
    method: 'POST',
    headers: { authorization: `Bearer ${world.appKey}`, 'content-type': 'application/json' },
    body: JSON.stringify({ platform: 'ios', token: world.standins.mints.ios.mint(), permission: 'granted' }),
  })
  const { device, secret } = (await answer.json()) as { device: { id: string }; secret: string }
  return { device: device.id, secret }
}

describe('health', () => {
  test('says that all is well, which processes there are, and how the gateways answer', async () => {
    const gateway = await until(iosNow, (one) => (one?.answers.accepted ?? 0) >= 3)
    expect(gateway).toMatchObject({
      environment: 'development',
      rehearsal: false,
      gateway: world.standins.ios.listener.origin,
      credential: expect.stringMatching(/^signing-key /),
      state: 'open',
      inFlight: 0,
      medianMs: expect.any(Number),
    })
    const now = await health()
    expect(now.queue).toEqual({ due: 0, later: 0, paused: 0, oldestDueAt: null })
    expect(now.processes).toMatchObject([{ pid: world.servicePid, does: 'everything' }])
    const { code, out } = await cli('health')
    expect([code, out.split('\n')[0]]).toEqual([0, '● All is well.'])
    expect(out).toMatch(/^ios +open +0 of \d+/m)
  })

  test('tells the queue by what waits for its turn, for later, and for somebody to let it go on', async () => {
    world.standins.ios.faultProfile = { ...calm, busyShare: 1, busyForSeconds: 60 }
    const id = await world.send({ to: { any: ['user:ada'] }, content: { title: 'Later' } })
    expect((await until(health, ({ queue }) => queue.later === 1)).queue).toMatchObject({ due: 0, paused: 0 })
    const hold = (how: 'paused' | 'cancelled') =>
      world.backend.call('holdNotification', { params: { app, id }, body: { hold: how } })
    await hold('paused')
    expect((await until(health, ({ queue }) => queue.paused === 1)).queue).toMatchObject({ due: 0, later: 0 })
    await hold('cancelled')
    await until(health, ({ queue }) => queue.later + queue.paused + queue.due === 0)
  })

  test('says of a gateway that it gives no answer, and of one that it refuses the credential', async () => {
    await world.standins.ios.listener.close()
    const ids = await Promise.all(
      Array.from({ length: 12 }, (_, i) =>
        world.send({ to: { any: ['user:ada'] }, content: { title: `T${i}` }, urgency: 'high' }),
      ),
    )
    await until(iosNow, (one) => one?.state === 'resting')
    const { code, out } = await cli('health')
    expect([code, out.split('\n')[0]]).toEqual([
      7,
      '✕ The gateway for ios gives no answer. Nothing, when it comes back by itself: it is asked again in a moment. Otherwise check its address.',
    ])
    for (const id of ids)
      await world.backend.call('holdNotification', { params: { app, id }, body: { hold: 'cancelled' } })
    world.standins.android.faultProfile = { ...calm, refusing: true }
    const refused = await world.send({ to: { any: ['user:signe'] }, content: { title: 'T' } })
    await until(health, ({ processes }) => Boolean(processes[0]?.gateways.some(({ state }) => state === 'halted')))
    expect((await cli('health')).out).toMatch(
      /✕ The gateway for android refuses the credential service-key \S+\. Replace it/,
    )
    await world.backend.call('holdNotification', { params: { app, id: refused }, body: { hold: 'cancelled' } })
    world.standins.android.faultProfile = calm
  })

  test('knows the workers of other processes, and misses them when they leave', async () => {
    const worker = await world.startSecond({ ZB_ONLY: 'worker' })
    await until(health, ({ processes }) => processes.some(({ does }) => does === 'worker'))
    await worker.stop()
    await until(health, ({ processes }) => processes.every(({ does }) => does !== 'worker'))
  })

  test('is in the metrics as well', async () => {
    const text = await world.metrics()
    expect(text).toMatch(/^zbell_gateway_in_flight\{.*platform="ios".*\} 0$/m)
    expect(text).toMatch(/^zbell_gateway_open\{app="merrow-sound",.*platform="ios".*\} [01]$/m)
    expect(text).toMatch(/^zbell_step_seconds_count\{platform="android",step="shown"\} [1-9]/m)
  })
})

describe('files of what was sent', () => {
  const lines = (text: string) => text.trimEnd().split('\n')

  test('have each notification with its totals, and only those that are asked for', async () => {
    const all = lines((await cli('export', 'notifications')).out).map((line) => JSON.parse(line))
    expect(all.map(({ title }) => title)).toEqual(expect.arrayContaining(['One', 'Two', 'Three']))
    expect(all.find(({ title }) => title === 'One')).toMatchObject({
      to: 'everyone',
      expanded: 3,
      shown: 2,
      skipped: 1,
    })
    const found = await world.backend.stream('exportNotifications', {
      params,
      query: { format: 'csv', search: 'Two' },
    })
    const [heading, ...rows] = lines(await new Response(found).text())
    expect(heading).toMatch(/^id,name,createdAt,.*,title,body,expanded,queued,accepted,/)
    expect(rows).toHaveLength(1)
  })

  test('have what became of each device, also of those that still wait', async () => {
    const one = (await world.backend.call('listNotifications', { params, query: { search: 'One' } })).items[0]!
    const path = join(dir, 'one.csv')
    expect((await cli('export', 'deliveries', one.id, '--output', path)).code).toBe(0)
    const [heading, ...rows] = lines(readFileSync(path, 'utf8'))
    expect(heading).toBe(
      'device,user,platform,rehearsal,state,reason,attempts,gatewayReference,appState,became,action,queuedAt,acceptedAt,receivedAt,shownAt,dismissedAt,openedAt,skippedAt,refusedAt,expiredAt,withdrawnAt',
    )
    expect(rows.map((row) => row.split(',').slice(1, 6).join(' '))).toEqual([
      'ada ios false shown ',
      'signe android false shown ',
      'nour android false skipped permission-denied',
    ])
    world.standins.android.faultProfile = { ...calm, busyShare: 1, busyForSeconds: 60 }
    const to = { any: ['user:signe', 'user:nour'] }
    const waits = await world.send({ to, content: { title: '=1+1' }, name: 'waits' })
    const read = async () => lines((await cli('export', 'deliveries', 'waits')).out).map((line) => JSON.parse(line))
    const queued = await until(read, (all) => all[1]?.state === 'skipped')
    expect(queued.map(({ user, state }) => [user, state])).toEqual([
      ['signe', 'queued'],
      ['nour', 'skipped'],
    ])
    // What looks like a formula runs in no spreadsheet.
    expect((await cli('export', 'notifications', '--format', 'csv')).out).toContain("'=1+1")
    await world.backend.call('holdNotification', { params: { app, id: waits }, body: { hold: 'cancelled' } })
  })

  test('are refused in words where something is missing or wrong', async () => {
    expect(await cli('export', 'deliveries')).toMatchObject({ code: 2, err: expect.stringContaining('say of which') })
    expect((await cli('export', 'deliveries', 'nothing-like-it')).code).toBe(5)
    const wrong = world.backend.stream('exportNotifications', { params, query: { reason: 'nonsense' } })
    await expect(wrong).rejects.toMatchObject({ problem: { code: 'invalid-request' } })
  })
})
