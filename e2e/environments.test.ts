import { afterAll, beforeAll, expect, test } from '@jest/globals'
import { Client } from '@zbell/contract/client'
import { until } from './harness/programs.ts'
import { app, params, World } from './harness/world.ts'

let world: World
let production: Client
let productionAppKey: string
beforeAll(async () => {
  world = await World.open()
  production = new Client({ url: world.url, bearer: await world.makeKey(app, 'backend', 'production') })
  productionAppKey = await world.makeKey(app, 'app', 'production')
  // Proofs have a test of their own.
  await production.call('changeSettings', { params, body: { requireProof: false } })
  await world.handset(1, 'ios', { user: 'ada' })
})
afterAll(() => world.close())

test('the same token registered in both environments is two devices, and each is seen from its own side only', async () => {
  const token = world.standins.mints.ios.mint()
  const register = (bearer: string) =>
    new Client({ url: world.url, bearer }).call('registerDevice', {
      body: { platform: 'ios', token, permission: 'granted', user: 'both' },
    })
  const [development, live] = [await register(world.appKey), await register(productionAppKey)]
  expect([development.device.environment, live.device.environment]).toEqual(['development', 'production'])
  expect(development.device.id).not.toBe(live.device.id)
  const { items } = await production.call('listDevices', { params })
  expect(items.map(({ id }) => id)).toEqual([live.device.id])
  await expect(production.call('readDevice', { params: { app, id: development.device.id } })).rejects.toThrow(
    /no such device/,
  )
})

test('a person of one environment is nobody in the other', async () => {
  const send = production.call('sendNotification', {
    params,
    body: { to: { any: ['user:ada'] }, content: { title: 'T' } },
  })
  await expect(send).rejects.toThrow(/is not a user of this app/)
})

test('a credential is never used across environments', async () => {
  const before = world.standins.ios.books.taken
  const sent = await production.call('sendNotification', {
    params,
    body: { to: { any: ['everyone'] }, content: { title: 'Live' } },
  })
  const done = await until(
    () => production.call('readNotification', { params: { app, id: sent.id } }),
    ({ state }) => state === 'finished',
  )
  expect(done.totals).toMatchObject({ expanded: 1, refused: 1 })
  expect(done.reasons).toMatchObject([{ reason: 'no-credential', count: 1 }])
  expect(world.standins.ios.books.taken).toBe(before)
  await expect(world.notification(sent.id)).rejects.toThrow(/no such notification/)
  expect((await production.call('listCredentials', { params })).items).toEqual([])
})

test('an Idempotency-Key counts in its own environment', async () => {
  const headers = { 'idempotency-key': 'the-same' }
  const body = { to: { any: ['everyone'] }, content: { title: 'T' } }
  const [here, there] = [
    await world.backend.call('sendNotification', { params, body, headers }),
    await production.call('sendNotification', { params, body, headers }),
  ]
  expect(here.id).not.toBe(there.id)
})

test('the operator says which environment is meant, and may then do what a backend key may', async () => {
  await expect(world.operator.call('listDevices', { params })).rejects.toThrow(/Say which environment/)
  const { items } = await world.operator.call('listDevices', { params, query: { environment: 'development' } })
  expect(items.map(({ user }) => user)).toContain('ada')
})
