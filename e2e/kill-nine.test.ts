import { afterAll, beforeAll, expect, test } from '@jest/globals'
import type { Delivery, Page } from '@zbell/contract'
import type { Handset } from '@zbell/standins'
import { until } from './harness/programs.ts'
import { inScope } from './harness/scope.ts'
import { app, World } from './harness/world.ts'

const fleet = inScope({ default: 2_000, all: 5_000, long: 5_000 })
let world: World
let handsets: Handset[]

beforeAll(async () => {
  world = await World.open({ ZB_LEASE_MS: '2000', ZB_IN_FLIGHT: '50' })
  handsets = []
  const numbers = Array.from({ length: fleet }, (_, n) => n)
  const register = async () => {
    for (let n = numbers.pop(); n !== undefined; n = numbers.pop())
      handsets.push(await world.handset(n, n % 2 ? 'ios' : 'android', { user: `crew-${n % 50}` }))
  }
  await Promise.all(Array.from({ length: 24 }, register))
})
afterAll(() => world.close())

/** A count when nothing is on its way to it any more. */
async function settled(count: () => number): Promise<number> {
  for (let before = -1; before !== count(); ) {
    before = count()
    await new Promise((done) => setTimeout(done, 200))
  }
  return count()
}

test('a service that is killed while it sends leaves nobody out and rings nobody twice', async () => {
  const taken = () => world.standins.ios.books.taken + world.standins.android.books.taken
  const id = await world.send({ to: { any: ['everyone'] }, content: { title: 'Storm tonight' }, urgency: 'high' })
  let unrecorded = 0
  for (const share of [0.15, 0.5]) {
    await until(taken, (count) => count > fleet * share)
    await world.killService()
    const [{ recorded }] = (await world.ask('select count(*) as recorded from deliveries')) as [{ recorded: number }]
    unrecorded = (await settled(taken)) - recorded
    await world.startService()
  }
  const finished = await until(
    () => world.notification(id),
    ({ state }) => state === 'finished',
  )
  expect(finished.totals.expanded).toBe(fleet)
  const { expanded, ...states } = (
    await until(
      () => world.notification(id),
      ({ totals }) => totals.shown === fleet,
    )
  ).totals
  expect(Object.values(states).reduce((sum, count) => sum + count, 0)).toBe(expanded)

  // Some requests had been answered and not yet recorded when the process died: those were made again, and only those.
  expect(taken()).toBeGreaterThanOrEqual(fleet)
  expect(taken()).toBeLessThanOrEqual(fleet + unrecorded)
  for (const { state } of handsets) expect(state.lockScreen.map((shown) => shown.notification)).toEqual([id])

  const devices = new Set<string>()
  for (let after: string | null = '0'; after !== null; ) {
    const page: Page<Delivery> = await world.backend.call('listDeliveries', {
      params: { app, id },
      query: { limit: 200, after },
    })
    for (const { device } of page.items) devices.add(device)
    after = page.next
  }
  expect(devices.size).toBe(fleet)
})

test('a broadcast that is taken back while it goes, by a service that is killed, is left on no device', async () => {
  const taken = () => world.standins.ios.books.taken + world.standins.android.books.taken
  const before = taken()
  const id = await world.send({
    to: { any: ['everyone'] },
    content: { title: 'Storm tonight, or not' },
    urgency: 'high',
  })
  await until(taken, (count) => count > before + fleet * 0.2)
  const wake = await world.backend.call('withdrawNotification', { params: { app, id } })
  await world.killService()
  await world.startService()
  for (const one of [id, wake.id])
    await until(
      () => world.notification(one),
      ({ state }) => state === 'finished' || state === 'cancelled',
    )
  await until(
    () => world.notification(wake.id),
    ({ totals }) => totals.received === totals.expanded,
  )
  expect((await world.notification(wake.id)).totals.expanded).toBeGreaterThan(fleet * 0.2)
  for (const { state } of handsets) expect(state.lockScreen.map((shown) => shown.notification)).not.toContain(id)
})

test('what was answered for one person survives a kill in the same breath, and rings once', async () => {
  const crew = handsets.filter(({ state }) => state.user === 'crew-1')
  const slow = world.standins.ios.faultProfile
  world.standins.ios.faultProfile = { ...slow, delayMs: 400 }
  const ids: string[] = []
  for (let i = 0; i < 3; i++) {
    const id = await world.send({ to: { any: ['user:crew-1'] }, urgency: 'high', content: { title: `Kill ${i}` } })
    // It is this process's own to send, and on its way now.
    await world.killService()
    await world.startService()
    ids.push(id)
  }
  world.standins.ios.faultProfile = slow
  for (const id of ids) {
    const { totals } = await until(
      () => world.notification(id),
      (one) => one.state === 'finished' && one.totals.shown === one.totals.expanded,
    )
    expect(totals.expanded).toBe(crew.length)
    for (const { state } of crew)
      expect(state.lockScreen.filter(({ notification }) => notification === id)).toHaveLength(1)
  }
})
