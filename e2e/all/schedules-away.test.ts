import { afterAll, beforeAll, expect, test } from '@jest/globals'
import { Client } from '@zbell/contract'
import { Demo } from '../harness/demo.ts'
import { until } from '../harness/programs.ts'

const demo = new Demo()
const params = { app: 'merrow-sound' }
const to = { any: ['user:ada'] }
const content = { title: 'Sailings tomorrow' }
let client: Client

beforeAll(async () => {
  await demo.start()
  client = new Client({ url: demo.ready.service, bearer: demo.ready.backendKey })
})
afterAll(() => demo.close())

const runs = async (schedule: string) =>
  (await client.call('listRuns', { params: { ...params, schedule }, query: {} })).items

test('a schedule that nothing ran at is rung once when the service is back, or said as missed', async () => {
  const when = { local: new Date(Date.now() + 3_000).toISOString().slice(0, 19), zone: 'UTC' }
  const save = (schedule: string, graceSeconds: number) =>
    client.call('saveSchedule', {
      params: { ...params, schedule },
      body: { when, graceSeconds, notification: { to, content } },
    })
  await save('late', 600)
  await save('missed', 0)
  const single = await client.call('sendNotification', {
    params,
    body: { to, content, when, graceSeconds: 0, name: 'single' },
  })
  await demo.kill()
  await new Promise((done) => setTimeout(done, 4_000))
  await demo.start()
  client = new Client({ url: demo.ready.service, bearer: demo.ready.backendKey })
  const late = await until(
    () => runs('late'),
    (all) => all.length > 0,
  )
  expect(late.map(({ state }) => state)).toEqual(['rung'])
  const missed = await until(
    () => runs('missed'),
    (all) => all.length > 0,
  )
  expect(missed.map(({ state, says }) => [state, says])).toEqual([['missed', 'nothing ran at its time']])
  const { troubles } = await client.call('readHealth', { params, query: {} })
  expect(troubles.map(({ detail }) => detail).join()).toMatch(/The schedule missed was missed \d+ minutes ago/)
  const one = await until(
    () => client.call('readNotification', { params: { ...params, id: single.id } }),
    ({ state }) => state === 'finished',
  )
  expect(one.totals.expanded).toBe(0)
  expect(one.missedAt).not.toBeNull()
  const why = await client.call('explainDelivery', { params: { ...params, id: single.id, who: 'ada' } })
  expect(why.verdict).toContain('the notification was missed')
})
