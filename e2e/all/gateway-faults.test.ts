import { afterAll, beforeAll, beforeEach, describe, expect, test } from '@jest/globals'
import { faultProfile } from '@zbell/standins'
import { until } from '../harness/programs.ts'
import { app, params, World } from '../harness/world.ts'

let world: World
beforeAll(async () => {
  world = await World.open({ ZB_GATEWAY_TIMEOUT_MS: '700' })
  await world.handset(1, 'ios', { user: 'ada' })
  await world.handset(2, 'android', { user: 'signe' })
  await world.handset(3, 'web', { user: 'haru' })
})
afterAll(() => world.close())

const calm = faultProfile.parse({})
beforeEach(() => {
  for (const gateway of [world.standins.ios, world.standins.android, world.standins.push]) gateway.faultProfile = calm
})

const gateways = {
  ios: () => world.standins.ios,
  android: () => world.standins.android,
  web: () => world.standins.push,
}
const owner = { ios: 'ada', android: 'signe', web: 'haru' }
const platforms = ['ios', 'android', 'web'] as const

async function fate(request: object) {
  const id = await world.send({ content: { title: 'T' }, ...request })
  await until(
    () => world.notification(id),
    ({ state }) => state === 'finished',
  )
  return (await world.backend.call('listDeliveries', { params: { app, id } })).items
}

describe.each(platforms)('the gateway for %s', (platform) => {
  const to = { any: [`user:${owner[platform]}`] }

  test('that is busy is asked again when it said, and then rings', async () => {
    gateways[platform]().faultProfile = { ...calm, busyShare: 1, busyForSeconds: 1 }
    const id = await world.send({ to, content: { title: 'Patience' } })
    await until(
      () => gateways[platform]().books.busy,
      (count) => count > 0,
    )
    const waiting = await until(
      async () => (await world.backend.call('listDeliveries', { params: { app, id } })).items[0],
      (one) => one?.attempts === 1,
    )
    expect(waiting?.state).toBe('queued')
    gateways[platform]().faultProfile = calm
    const done = await until(
      () => world.notification(id),
      ({ totals }) => totals.shown === 1,
    )
    expect(done.state).toBe('finished')
    const [delivery] = (await world.backend.call('listDeliveries', { params: { app, id } })).items
    expect(delivery?.attempts).toBe(2)
  })

  test('that is slow loses its patience’s worth and is asked again', async () => {
    gateways[platform]().faultProfile = { ...calm, delayMs: 1_500 }
    const id = await world.send({ to, content: { title: 'Slow' } })
    await until(
      async () => (await world.backend.call('listDeliveries', { params: { app, id } })).items[0]?.attempts,
      (attempts) => attempts === 1,
    )
    gateways[platform]().faultProfile = calm
    await until(
      () => world.notification(id),
      ({ totals }) => totals.shown === 1,
    )
  })

  test('that fails for longer than the notification lives ends it as expired', async () => {
    gateways[platform]().faultProfile = { ...calm, failing: true }
    const [delivery] = await fate({ to, ttlSeconds: 1 })
    expect(delivery).toMatchObject({ state: 'expired', reason: { code: 'gateway-unreachable' } })
  })

  test('that refuses the credential halts its lane; deliveries wait and go on when it is replaced', async () => {
    gateways[platform]().faultProfile = { ...calm, refusing: true }
    const before = gateways[platform]().books.refused
    const ids = [
      await world.send({ to, content: { title: 'First' } }),
      await world.send({ to, content: { title: 'Second' } }),
    ]
    const inUse = async () =>
      (await world.backend.call('listCredentials', { params })).items.find(
        (one) => one.platform === platform && one.state === 'in-use',
      )
    await until(inUse, (one) => Boolean(one?.rejectedAt))
    await new Promise((done) => setTimeout(done, 700))
    // Once with the token at hand, once with a fresh one, and perhaps both of a request that was on its way.
    expect(gateways[platform]().books.refused - before).toBeLessThanOrEqual(4)
    for (const id of ids) expect((await world.notification(id)).totals).toMatchObject({ expanded: 1, queued: 1 })
    gateways[platform]().faultProfile = calm
    await world.backend.call('useCredential', { params: { app, id: (await inUse())!.id } })
    for (const id of ids)
      await until(
        () => world.notification(id),
        ({ totals }) => totals.shown === 1,
      )
    expect((await inUse())?.rejectedAt).toBeNull()
  })

  test('that drops its connections is found again', async () => {
    gateways[platform]().listener.drop()
    await until(
      () => fate({ to }),
      ([delivery]) => delivery?.state === 'shown' || delivery?.state === 'received' || delivery?.state === 'accepted',
    )
  })

  test('that says the token is gone retires the device, and the next send passes it by', async () => {
    gateways[platform]().faultProfile = { ...calm, goneShare: 1 }
    const [delivery] = await fate({ to })
    expect(delivery).toMatchObject({ state: 'refused', reason: { code: 'token-gone' } })
    const device = await world.backend.call('readDevice', { params: { app, id: delivery!.device } })
    expect(device).toMatchObject({ retiredReason: 'token-gone', retiredAt: expect.any(String) })
    gateways[platform]().faultProfile = calm
    expect(await fate({ to })).toEqual([])
  })
})

test('a slow gateway does not hold up the others', async () => {
  await world.handset(11, 'ios', { user: 'pair' })
  await world.handset(12, 'android', { user: 'pair' })
  world.standins.ios.faultProfile = { ...calm, failing: true }
  const id = await world.send({ to: { any: ['user:pair'] }, content: { title: 'Both' } })
  const { totals } = await until(
    () => world.notification(id),
    (one) => one.totals.shown === 1,
  )
  expect(totals).toMatchObject({ expanded: 2, queued: 1, shown: 1 })
  world.standins.ios.faultProfile = calm
  await until(
    () => world.notification(id),
    (one) => one.totals.shown === 2,
  )
})

test('a platform without a credential says so', async () => {
  await world.makeApp('gull-air')
  const [backend, appKey] = [await world.makeKey('gull-air', 'backend'), await world.makeKey('gull-air', 'app')]
  const call = async (method: string, path: string, key: string, body?: object) => {
    const headers = { authorization: `Bearer ${key}`, 'content-type': 'application/json' }
    const answer = await fetch(world.url + path, { method, headers, ...(body ? { body: JSON.stringify(body) } : {}) })
    return (await answer.json()) as { id: string; state: string; reasons: { reason: string }[] }
  }
  await call('POST', '/v1/devices', appKey, {
    platform: 'ios',
    token: 'a-token-of-another-app-0001',
    permission: 'granted',
  })
  const { id } = await call('POST', '/v1/apps/gull-air/notifications', backend, {
    to: { any: ['everyone'] },
    content: { title: 'T' },
  })
  const done = await until(
    () => call('GET', `/v1/apps/gull-air/notifications/${id}`, backend),
    ({ state }) => state === 'finished',
  )
  expect(done.reasons).toMatchObject([{ reason: 'no-credential', count: 1 }])
})

test('what the gateways counted agrees with what the service counted', async () => {
  const metrics = await world.metrics()
  const counted = (platform: string) =>
    Number(
      new RegExp(`zbell_deliveries_total\\{platform="${platform}",state="accepted",reason="none"\\} (\\d+)`).exec(
        metrics,
      )?.[1] ?? 0,
    )
  expect(counted('android')).toBeGreaterThan(0)
  expect(metrics).toMatch(/zbell_gateway_answer_seconds_count\{platform="android",outcome="busy"\} [1-9]/)
  expect(counted('android')).toBeLessThanOrEqual(world.standins.android.books.taken)
  expect(
    (await world.backend.call('listNotifications', { params })).items.every(({ state }) => state === 'finished'),
  ).toBe(true)
})

test('why names the credential and the answer of that moment, whatever is in use by now', async () => {
  const why = async (id: string) =>
    (await world.backend.call('explainDelivery', { params: { app, id, who: 'user:gert' } })).devices[0]!.steps.map(
      ({ says }) => says,
    )
  await world.handset(30, 'ios', { user: 'gert' })
  const to = { any: ['user:gert'] }
  const id = await world.send({ to, content: { title: 'T' } })
  await until(
    () => world.notification(id),
    ({ totals }) => totals.shown === 1,
  )
  const { items } = await world.backend.call('listCredentials', { params })
  const used = items.find((one) => one.platform === 'ios' && one.state === 'in-use')!
  const said = `${world.standins.ios.listener.origin}, asked with the credential signing-key ${used.fingerprint?.slice(0, 16)}, answered 200`
  expect((await why(id)).join('\n')).toContain(`The gateway accepted it: ${said}`)
  world.standins.ios.faultProfile = { ...calm, goneShare: 1 }
  const [refused] = await fate({ to })
  expect(refused).toMatchObject({ reason: { code: 'token-gone' } })
  const { items: sent } = await world.backend.call('listNotifications', { params, query: { user: 'gert' } })
  expect((await why(sent[0]!.id)).join('\n')).toMatch(/The gateway said no: https:.*answered 410: \{/)
  world.standins.ios.faultProfile = calm
  await world.backend.call('retireCredential', { params: { app, id: used.id } })
  expect((await why(id)).join('\n')).toContain(said)
})
