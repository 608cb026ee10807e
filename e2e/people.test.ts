import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import type { Device, Person } from '@zbell/contract'
import { Client } from '@zbell/contract/client'
import { type DeviceSort, type Direction, deviceSorts, directions, type PersonSort } from '@zbell/contract/words'
import { until } from './harness/programs.ts'
import { refusal } from './harness/refusal.ts'
import { app, params, World } from './harness/world.ts'

let world: World
beforeAll(async () => {
  world = await World.open()
})
afterAll(() => world.close())

const clientOf = (bearer: string) => new Client({ url: world.url, bearer })
let phones = 0
/** A phone of its own: it registers and speaks with its secret. */
async function phone(
  more: { user?: string; proof?: string; installation?: string; token?: string; secret?: string } = {},
) {
  const n = ++phones
  const given = { token: world.standins.mints.ios.mint(), installation: `installation-${n}-0000`, ...more }
  const body = { platform: 'ios' as const, permission: 'granted' as const, ...given }
  const { device, secret, installation } = await clientOf(world.appKey).call('registerDevice', { body })
  return { device, installation, secret, self: clientOf(secret) }
}
const user = (name: string) => world.backend.call('readUser', { params: { app, user: name } })
const expandedTo = async (...any: string[]) => {
  const id = await world.send({ to: { any }, mode: 'wake', content: {} })
  const { totals } = await until(
    () => world.notification(id),
    ({ state }) => state !== 'expanding',
  )
  return totals.expanded
}

describe('attributes', () => {
  test('are declared by their first use, set, changed, removed and shown', async () => {
    const at = { params: { app, user: 'ada' } }
    const change = (body: object) => world.backend.call('changeUserAttributes', { ...at, body: body as never })
    await change({ homePier: 'Lantern Quay', pass: 'season', bicycle: true, trips: 12 })
    const place = { longitude: 5.3, latitude: 60.4 }
    const now = await change({ trips: 13, pass: null, lives: place, renewed: '2026-11-01T00:00:00.000Z' })
    expect(now).toEqual({
      bicycle: true,
      homePier: 'Lantern Quay',
      lives: place,
      renewed: '2026-11-01T00:00:00.000Z',
      trips: 13,
    })
    const { items } = await world.backend.call('listAttributes', { params })
    expect(Object.fromEntries(items.map(({ name, type }) => [name, type]))).toEqual({
      bicycle: 'boolean',
      homePier: 'text',
      lives: 'place',
      pass: 'text',
      renewed: 'instant',
      trips: 'number',
    })
    const problem = await refusal(change({ bicycle: false, trips: 'many' }))
    expect(problem).toMatchObject({ code: 'attribute-refused', errors: [{ pointer: '/trips' }] })
    expect((await user('ada')).attributes.bicycle).toBe(true)
    expect(await refusal(change({ 'two words': 1 }))).toMatchObject({ code: 'invalid-request' })
  })

  test('a device sets its own user’s, those that the app allows and no others', async () => {
    const { self } = await phone({ user: 'signe' })
    const set = (body: object) => self.call('changeOwnAttributes', { body: body as never })
    expect(await refusal(set({ homePier: 'Saltmere' }))).toMatchObject({ code: 'attribute-refused' })
    await world.backend.call('changeAttribute', { params: { app, name: 'homePier' }, body: { devicesMay: true } })
    expect(await set({ homePier: 'Saltmere' })).toEqual({ homePier: 'Saltmere' })
    await world.backend.call('changeUserAttributes', { params: { app, user: 'signe' }, body: { trips: 3 } })
    expect(await self.call('readOwnAttributes', {})).toEqual({ homePier: 'Saltmere' })
    expect((await user('signe')).attributes).toEqual({ homePier: 'Saltmere', trips: 3 })
    expect((await user('ada')).attributes.homePier).toBe('Lantern Quay')
  })
})

describe('somebody without a name', () => {
  test('brings along what is known of them when the app asks, and nobody else gets it', async () => {
    const { self, device } = await phone()
    await self.call('changeOwnAttributes', { body: { homePier: 'Gull Point' } })
    await self.call('joinOwnTopic', { params: { topic: 'route-2' } })
    const happened = { specversion: '1.0' as const, id: 'search-1', source: '/app', type: 'example.search' }
    await self.call('reportOwnOccurrences', { body: happened })
    await self.call('changeOwnDevice', { body: { user: 'haru', merge: true } })
    const haru = await user('haru')
    expect(haru.attributes).toEqual({ homePier: 'Gull Point' })
    expect(haru.occurrences).toMatchObject([{ id: 'search-1', type: 'example.search' }])
    expect(haru.devices.map(({ id }: Device) => id)).toEqual([device.id])
    // Whoever signs in next on the same phone starts with nothing of it.
    await self.call('changeOwnDevice', { body: { user: null } })
    expect(await self.call('readOwnAttributes', {})).toEqual({})
    await self.call('changeOwnDevice', { body: { user: 'iria' } })
    expect((await user('iria')).attributes).toEqual({})
    expect((await user('haru')).devices).toEqual([])
  })

  test('is forgotten when somebody signs in without asking for that', async () => {
    const { self } = await phone()
    await self.call('changeOwnAttributes', { body: { homePier: 'Farrow Isle' } })
    await self.call('changeOwnDevice', { body: { user: 'nour' } })
    expect((await user('nour')).attributes).toEqual({})
    const orphans = await world.ask(
      'select no from users u where name is null and no not in (select user_no from devices where user_no is not null)',
    )
    expect(orphans).toEqual([])
  })
})

test('a notification is told as it was to whoever had the device then, also after they have signed out', async () => {
  await world.handset(5, 'android', { user: 'finn' })
  const id = await world.send({ to: { any: ['user:finn'] }, content: { title: 'Gate 4' } })
  const why = (who: string) => world.backend.call('explainDelivery', { params: { app, id, who } })
  await until(
    () => why('finn'),
    ({ seen }) => seen,
  )
  await world.standins.registry.find(app, 'h5')!.change({ user: 'pol' })
  const told = await until(
    () => why('finn'),
    ({ devices }) => devices[0]?.steps.some(({ says }) => says === 'They have signed out of it since.') === true,
  )
  expect([told.seen, told.devices.length]).toEqual([true, 1])
  const { seen, verdict } = await why('pol')
  expect([seen, verdict]).toEqual([false, 'No: they signed in on this device only after the notification was sent.'])
})

describe('occurrences', () => {
  const one = {
    specversion: '1.0',
    id: 'b-1',
    source: 'https://ferries.example/bookings',
    type: 'example.booked',
    subject: 'ada',
  }
  const post = (type: string, body: unknown) =>
    fetch(`${world.url}/v1/apps/${app}/occurrences`, {
      method: 'POST',
      headers: { authorization: `Bearer ${world.backendKey}`, 'content-type': type },
      body: JSON.stringify(body),
    }).then(async (answer) => [answer.status, await answer.json()])

  test('come singly or in a batch, under their own media types, and count once by source and id', async () => {
    const data = { sailing: 101 }
    expect(await post('application/cloudevents+json', { ...one, data })).toEqual([200, { taken: 1, known: 0 }])
    const batch = [one, { ...one, id: 'b-2' }, { ...one, source: '/elsewhere' }, { ...one, id: 'b-2' }]
    expect(await post('application/cloudevents-batch+json', batch)).toEqual([200, { taken: 2, known: 2 }])
    const { occurrences } = await user('ada')
    expect(occurrences.map(({ id, source }) => [id, source]).sort()).toEqual([
      ['b-1', '/elsewhere'],
      ['b-1', one.source],
      ['b-2', one.source],
    ])
    expect(occurrences.find(({ id, source }) => id === 'b-1' && source === one.source)?.data).toEqual(data)
  })

  test('a device speaks of its own user only', async () => {
    const { self } = await phone({ user: 'signe' })
    const mine = { id: 's-1', source: '/app', type: 'example.opened' }
    expect(await self.call('reportOwnOccurrences', { body: mine })).toEqual({ taken: 1, known: 0 })
    expect((await user('signe')).occurrences).toMatchObject([{ id: 's-1' }])
    const foreign = self.call('reportOwnOccurrences', { body: [mine, { ...mine, id: 's-2', subject: 'ada' }] })
    expect(await refusal(foreign)).toMatchObject({ errors: [{ pointer: '/1/subject' }] })
  })

  test.each([
    ['no id', { ...one, id: undefined }],
    ['another version', { ...one, specversion: '0.3' }],
    ['a reserved name in its data', JSON.parse(`{"id":"x","source":"y","type":"z","data":{"__proto__":{"a":1}}}`)],
    ['too much data', { ...one, id: 'big', data: 'x'.repeat(10_001) }],
  ])('with %s are refused', async (_name, body) => {
    expect((await post('application/json', body))[0]).toBe(422)
  })
})

describe('topics', () => {
  test('are joined by device, user and backend, and ring each device once', async () => {
    const anonymous = await phone()
    const own = await phone({ user: 'ada' })
    await phone({ user: 'ada' })
    await anonymous.self.call('joinOwnTopic', { params: { topic: 'route-4' } })
    await anonymous.self.call('joinOwnTopic', { params: { topic: 'route-4' } })
    await own.self.call('joinOwnTopic', { params: { topic: 'route-4' } })
    expect(await expandedTo('topic:route-4')).toBe(2)
    const at = { params: { app, topic: 'route-4' } }
    const joined = await world.backend.call('joinTopic', {
      ...at,
      body: { users: ['ada', 'nobody'], devices: [own.device.id] },
    })
    expect(joined).toEqual({ changed: 1, unknown: ['user:nobody'] })
    expect(await expandedTo('topic:route-4')).toBe(3)
    expect(await expandedTo('topic:route-4', 'user:ada', `device:${own.device.id}`)).toBe(3)
    const { items } = await world.backend.call('listTopics', { params })
    expect(items.find(({ topic }) => topic === 'route-4')).toMatchObject({ declared: false, devices: 2, users: 1 })
    expect(await own.self.call('listOwnTopics', {})).toEqual({ topics: ['route-4'] })
    // Leaving on one phone means that this person wants no more of it.
    await own.self.call('leaveOwnTopic', { params: { topic: 'route-4' } })
    expect(await expandedTo('topic:route-4')).toBe(1)
    await world.backend.call('leaveTopic', { ...at, body: { devices: [anonymous.device.id] } })
    expect(await expandedTo('topic:route-4')).toBe(0)
  })

  test('may be kept to those that the app declared', async () => {
    const { self } = await phone()
    await world.backend.call('changeSettings', { params, body: { openTopics: false } })
    expect(await refusal(self.call('joinOwnTopic', { params: { topic: 'weather' } }))).toMatchObject({
      code: 'unknown-topic',
    })
    await world.backend.call('declareTopic', { params: { app, topic: 'weather' }, body: { title: 'Weather' } })
    await self.call('joinOwnTopic', { params: { topic: 'weather' } })
    await world.backend.call('changeSettings', { params, body: { openTopics: true } })
    expect(await expandedTo('topic:weather')).toBe(1)
    await world.operator.call('deleteTopic', {
      params: { app, topic: 'weather' },
      query: { environment: 'development' },
    })
    expect(await self.call('listOwnTopics', {})).toEqual({ topics: [] })
    const gone = world.send({ to: { any: ['topic:weather'] }, content: { title: 'T' } })
    expect(await refusal(gone)).toMatchObject({
      errors: [{ pointer: '/to/any/0', detail: 'is not a topic of this app' }],
    })
  })

  test('a device joins two hundred, and the app’s own list has all of them', async () => {
    const { self } = await phone()
    for (let n = 0; n < 200; n++) await self.call('joinOwnTopic', { params: { topic: `many.${n}` } })
    expect(await refusal(self.call('joinOwnTopic', { params: { topic: 'one-too-many' } }))).toMatchObject({
      code: 'too-many-topics',
      detail: 'A device joins 200 topics at most.',
    })
    await self.call('joinOwnTopic', { params: { topic: 'many.7' } })
    await self.call('leaveOwnTopic', { params: { topic: 'many.7' } })
    await self.call('joinOwnTopic', { params: { topic: 'in-its-place' } })
    expect((await self.call('listOwnTopics', {})).topics).toHaveLength(200)
  })

  test('ten thousand join in one call', async () => {
    const users = Array.from({ length: 10_000 }, (_, i) => `many-${i}`)
    const rows = users.map((name) => `(1,'development','${name}',now(3),now(3))`).join(',')
    await world.changeDirectly(`insert into users (app_no, environment, name, created_at, changed_at) values ${rows}`)
    const joined = await world.backend.call('joinTopic', { params: { app, topic: 'all' }, body: { users } })
    expect(joined).toEqual({ changed: 10_000, unknown: [] })
  })
})

test('a device’s record tells what happened to it', async () => {
  const { self, device } = await phone({ user: 'ada' })
  await self.call('changeOwnDevice', { body: { muted: true } })
  await self.call('joinOwnTopic', { params: { topic: 'route-1' } })
  await self.call('changeOwnDevice', { body: { token: 'another-token-of-this-phone' } })
  const id = await world.send({ to: { any: [`device:${device.id}`] }, content: { title: 'Muted' } })
  await until(
    () => world.notification(id),
    ({ state }) => state === 'finished',
  )
  const record = await world.backend.call('readDeviceRecord', { params: { app, id: device.id } })
  expect(record.events.map(({ event, detail }) => [event, detail])).toEqual([
    ['new-token', null],
    ['joined', 'route-1'],
    ['muted', null],
  ])
  expect(record.topics.map(({ topic }) => topic)).toContain('route-1')
  expect(record.deliveries).toMatchObject([
    { notification: id, title: 'Muted', state: 'skipped', detail: expect.stringContaining('turned notifications off') },
  ])
  await self.call('unregisterOwnDevice', {})
  expect((await world.backend.call('readDevice', { params: { app, id: device.id } })).retiredReason).toBe(
    'unregistered',
  )
})

describe('lists', () => {
  test.each(
    Object.keys(deviceSorts).flatMap((sort) => directions.map((direction) => [sort as DeviceSort, direction] as const)),
  )('devices by %s, %s, page through all of them once, and what has no value comes last', async (sort, direction) => {
    const found: Device[] = []
    for (let after: string | undefined; ; ) {
      const query = { sort, direction, limit: 3, ...(after === undefined ? {} : { after }) }
      const page = await world.backend.call('listDevices', { params, query })
      found.push(...page.items)
      if (page.next === null) break
      after = page.next
    }
    expect(new Set(found.map(({ id }) => id)).size).toBe(found.length)
    const [{ count }] = (await world.ask('select count(*) as count from devices where app_no = 1')) as [
      { count: number },
    ]
    expect(found).toHaveLength(count)
    const values = found.map((one) => (sort === 'reach' ? reachOf(one) : one[sort]))
    const known = values.filter((value) => value !== null)
    expect(values.slice(known.length)).toEqual(values.slice(known.length).map(() => null))
    expect(known).toEqual([...known].sort((a, b) => compareAs(sort, a, b) * (direction === 'ascending' ? 1 : -1)))
  })

  test('people by name, and by an attribute, page through all of them once', async () => {
    const trips = {
      'sorted-1': 12,
      'sorted-2': 3,
      'sorted-3': null,
      'sorted-4': 100,
      'sorted-5': -7.25,
      'sorted-6': null,
    }
    for (const [name, value] of Object.entries(trips)) {
      const body = { pier: 'Saltmere', ...(value === null ? {} : { tripsSorted: value }) }
      await world.backend.call('changeUserAttributes', { params: { app, user: name }, body })
    }
    const everybody = async (query: { sort: PersonSort; direction?: Direction }) => {
      const found: Person[] = []
      for (let after: string | undefined; ; ) {
        const page = await world.backend.call('listUsers', {
          params,
          query: { ...query, search: 'sorted-', limit: 2, ...(after === undefined ? {} : { after }) },
        })
        found.push(...page.items)
        if (page.next === null) return found
        after = page.next
      }
    }
    const names = Object.keys(trips)
    expect((await everybody({ sort: 'user' })).map(({ user }) => user)).toEqual(names)
    expect((await everybody({ sort: 'user', direction: 'descending' })).map(({ user }) => user)).toEqual(
      [...names].reverse(),
    )
    const byTrips = async (direction: Direction) =>
      (await everybody({ sort: 'attribute.tripsSorted', direction })).map(({ user }) => user?.at(-1)).join('')
    expect(await byTrips('ascending')).toBe('521436')
    expect(await byTrips('descending')).toBe('412563')
    // All at the same pier: then whoever came first.
    expect((await everybody({ sort: 'attribute.pier' })).map(({ user }) => user)).toEqual(names)
    const nonsense = { sort: 'shoe size' as PersonSort }
    expect(await refusal(world.backend.call('listUsers', { params, query: nonsense }))).toMatchObject({
      code: 'invalid-request',
      errors: [{ pointer: '?sort' }],
    })
  })

  test('a place that is none of the list’s is refused', async () => {
    for (const sort of ['registeredAt', 'changedAt', 'model'] as const)
      expect(
        await refusal(world.backend.call('listDevices', { params, query: { sort, after: 'nowhere' } })),
      ).toMatchObject({ code: 'invalid-request', errors: [{ pointer: '?after' }] })
    expect(await refusal(world.backend.call('listDevices', { params, query: { after: 'a b' } }))).toMatchObject({
      code: 'invalid-request',
    })
  })
})

const reachOf = ({ retiredAt, permission, muted }: Device): number =>
  retiredAt !== null ? 3 : permission !== 'granted' ? 2 : muted ? 1 : 0

/** Versions as people count, words without regard to case, times and numbers as they are. */
function compareAs(sort: DeviceSort, a: string | number, b: string | number): number {
  if (typeof a === 'number' || typeof b === 'number') return Number(a) - Number(b)
  if (sort === 'appVersion' || sort === 'systemVersion')
    return a.localeCompare(b, 'en', { numeric: true, sensitivity: 'base' })
  if (sort === 'model' || sort === 'locale' || sort === 'timeZone')
    return a.localeCompare(b, 'en', { sensitivity: 'base' })
  return a < b ? -1 : a > b ? 1 : 0
}
