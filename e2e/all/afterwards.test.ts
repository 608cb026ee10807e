import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import { faultProfile } from '@zbell/standins'
import { until } from '../harness/programs.ts'
import { app, params, World } from '../harness/world.ts'

let world: World
const calm = faultProfile.parse({})

beforeAll(async () => {
  world = await World.open()
  await world.handset(1, 'ios', { user: 'ada' })
  await world.handset(2, 'android', { user: 'signe' })
  await world.handset(3, 'web', { user: 'haru' })
})
afterAll(() => world.close())

const handset = (n: number) => world.standins.registry.find(app, `h${n}`)!
const why = (id: string, who: string) => world.backend.call('explainDelivery', { params: { app, id, who } })
const over = (id: string) =>
  until(
    () => world.notification(id),
    ({ state }) => state === 'finished' || state === 'cancelled',
  )
const refused = (code: string) => expect.objectContaining({ problem: expect.objectContaining({ code }) })

describe('afterwards', () => {
  test('it is taken back from those who had it', async () => {
    const id = await world.send({ to: { any: ['user:ada'] }, content: { title: 'A mistake' } })
    await until(
      () => handset(1).view(),
      ({ lockScreen }) => lockScreen.some(({ notification }) => notification === id),
    )
    await until(
      () => world.notification(id),
      ({ totals }) => totals.shown === 1,
    )
    await world.backend.call('withdrawNotification', { params: { app, id } })
    await until(
      () => handset(1).view(),
      ({ lockScreen }) => !lockScreen.some(({ notification }) => notification === id),
    )
    const { withdrawnAt } = await until(
      () => world.notification(id),
      ({ totals }) => totals.withdrawn === 1,
    )
    expect(withdrawnAt).not.toBeNull()
    expect((await why(id, 'ada')).verdict).toBe('It was shown, and then taken back.')
  })
  test('a late one does not come after a newer one of its tag', async () => {
    world.standins.android.faultProfile = { ...calm, busyShare: 1, busyForSeconds: 1 }
    const to = { any: ['user:signe'] }
    const late = await world.send({ to, content: { title: 'Late', tag: 'sailing-7' } })
    await until(
      async () => (await world.backend.call('listDeliveries', { params: { app, id: late } })).items[0]?.attempts,
      (attempts) => attempts === 1,
    )
    world.standins.android.faultProfile = calm
    const newer = await world.send({ to, content: { title: 'Newer', tag: 'sailing-7' } })
    await over(newer)
    const done = await over(late)
    expect(done.reasons).toMatchObject([{ reason: 'superseded', count: 1 }])
  })
  test('nobody gets an answer, too', async () => {
    const id = await world.send({ to: { any: ['user:ada'] }, content: { title: 'T' } })
    await over(id)
    expect((await why(id, 'nobody')).verdict).toBe('No: nobody is called nobody here.')
    expect((await why(id, '018bcfe5-6800-7fff-bfff-ffffffffffff')).verdict).toBe('No: there is no such device.')
    await world.handset(9, 'ios', { user: 'late' })
    expect((await why(id, 'late')).verdict).toBe('No: the device registered later than the notification was sent.')
    await expect(why(id, 'topic:x')).rejects.toEqual(refused('invalid-request'))
  })
  test('it is found again by its words, its name, a person or a reason', async () => {
    const id = await world.send({
      to: { any: ['user:haru'] },
      name: 'fog-100',
      content: { title: '100% fog {at}' },
      values: { at: 'Gull_Point' },
    })
    await over(id)
    const found = async (query: object) =>
      (await world.backend.call('listNotifications', { params, query })).items.map((one) => one.id)
    for (const query of [{ search: '100% fog' }, { search: 'Gull_Point' }, { search: 'fog-100' }])
      expect(await found(query)).toEqual([id])
    expect(await found({ search: '100%fog' })).toEqual([])
    expect((await found({ user: 'haru' }))[0]).toBe(id)
    expect(await found({ user: 'signe', search: 'fog' })).toEqual([])
    expect((await found({ reason: 'superseded' })).length).toBe(1)
    await expect(found({ reason: 'nonsense' })).rejects.toEqual(refused('invalid-request'))
  })
  test('its progress over time adds up to its totals', async () => {
    const id = await world.send({ to: { any: ['user:ada', 'user:signe'] }, content: { title: 'T' } })
    const { totals } = await until(
      () => world.notification(id),
      (one) => one.totals.shown === 2,
    )
    const { steps } = await world.backend.call('readProgress', { params: { app, id } })
    const sum = (state: 'accepted' | 'shown') => steps.reduce((all, { counts }) => all + (counts[state] ?? 0), 0)
    expect([sum('accepted'), sum('shown')]).toEqual([totals.expanded, totals.shown])
  })
})
