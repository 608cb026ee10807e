import { afterAll, beforeAll, expect, test } from '@jest/globals'
import { until } from '../harness/programs.ts'
import { World } from '../harness/world.ts'

let world: World
beforeAll(async () => {
  world = await World.open({ ZB_ONLY: 'http' })
  await world.handset(1, 'ios', { user: 'ada' })
})
afterAll(() => world.close())

test('a process with HTTP only takes notifications and leaves them to workers, which share them', async () => {
  const ids = await Promise.all(
    Array.from({ length: 6 }, (_, i) => world.send({ to: { any: ['user:ada'] }, content: { title: `T${i}` } })),
  )
  await new Promise((done) => setTimeout(done, 600))
  expect((await world.notification(ids[0]!)).totals).toMatchObject({ expanded: 1, queued: 1 })
  const workers = [await world.startSecond({ ZB_ONLY: 'worker' }), await world.startSecond({ ZB_ONLY: 'worker' })]
  try {
    for (const id of ids)
      await until(
        () => world.notification(id),
        ({ totals }) => totals.shown === 1,
      )
    // A worker says how it is, and nothing else.
    const [worker] = workers
    expect((await fetch(`${worker!.url}/readyz`)).status).toBe(200)
    expect((await fetch(`${worker!.url}/v1/apps`)).status).toBe(404)
    expect((await world.metrics()).includes('zbell_')).toBe(true)
  } finally {
    for (const worker of workers) await worker.stop()
  }
})

test('a hold that one process takes is heard by the worker in another', async () => {
  const worker = await world.startSecond({ ZB_ONLY: 'worker' })
  try {
    const id = await world.send({
      to: { any: ['user:ada'] },
      content: { title: 'Spread' },
      ttlSeconds: 60,
      spreadSeconds: 30,
    })
    await world.backend.call('holdNotification', { params: { app: 'merrow-sound', id }, body: { hold: 'cancelled' } })
    const done = await until(
      () => world.notification(id),
      ({ state }) => state === 'cancelled',
    )
    expect(Object.values({ ...done.totals, expanded: 0 }).reduce((sum, count) => sum + count, 0)).toBe(
      done.totals.expanded,
    )
  } finally {
    await worker.stop()
  }
})
