import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import { type Client, type Delivery, type NotificationRequest, ProblemError } from '@zbell/contract'
import { until, zbell } from './harness/programs.ts'
import { inScope } from './harness/scope.ts'
import { app, params, World } from './harness/world.ts'

let world: World
let client: Client
let count = 0

beforeAll(async () => {
  world = await World.open()
  client = world.backend
})
afterAll(() => world.close())

const command = (...args: string[]) =>
  zbell(args, { ZBELL_URL: world.url, ZBELL_KEY: world.backendKey, ZBELL_APP: app })

/** Somebody with one phone, and how to tell the service for them. */
async function somebody(more: object = {}) {
  const user = `somebody-${++count}`
  const { id } = await client.call('makeHandset', { params, body: { platform: 'android', user, ...more } as never })
  return { user, handset: id }
}
const send = (user: string, more: Partial<NotificationRequest> = {}) =>
  client.call('sendNotification', {
    params,
    body: { to: { any: [`user:${user}`] }, content: { title: 'Two for one' }, ...more },
  })
const first = async (id: string): Promise<Delivery> =>
  (await until(
    async () => (await client.call('listDeliveries', { params: { app, id } })).items[0],
    (one) => one !== undefined && (one.state !== 'queued' || one.waits !== null),
  ))!
const became = async (user: string, more: Partial<NotificationRequest> = {}): Promise<string> => {
  const { id } = await send(user, more)
  const delivery = await first(id)
  return (
    delivery.reason?.code ??
    delivery.waits?.reason ??
    (['accepted', 'received', 'shown'].includes(delivery.state) ? 'rung' : delivery.state)
  )
}
const read = (id: string) => client.call('readNotification', { params: { app, id } })
const settings = (body: object) =>
  client.call('changeSettings', { params, query: { environment: 'development' }, body })
const codeOf = (call: Promise<unknown>) =>
  call.then(
    () => 'done',
    (error: unknown) => (error instanceof ProblemError ? error.problem.code : Promise.reject(error)),
  )
/** A window of the reader’s clock that holds now, in UTC. */
const nowQuiet = (then: 'wait' | 'skip') => {
  const clock = (hours: number) => new Date(Date.now() + hours * 3_600_000).toISOString().slice(11, 16)
  return { from: clock(-2), to: clock(2), then }
}
const content = (channel: string) => ({ content: { title: 'Two for one', channel } })

describe('a channel', () => {
  test('is declared, listed, changed and removed; what is sent on one has to be one of the app’s', async () => {
    const saved = await command(
      'channel',
      'save',
      'offers',
      '--title',
      'Offers',
      '--urgency',
      'low',
      '--ttl',
      '600',
      '--sound',
      'none',
      '--android',
      'offers_v2',
    )
    expect(saved.code).toBe(0)
    const { user, handset } = await somebody()
    const { id, expiresAt, createdAt } = await send(user, content('offers'))
    expect(Date.parse(expiresAt) - Date.parse(createdAt)).toBe(600_000)
    expect(await read(id)).toMatchObject({ channel: 'offers', urgency: 'low', content: { sound: 'none' } })
    expect(await codeOf(send(user, content('gossip')))).toBe('invalid-request')
    // What a notification says itself counts before the defaults.
    expect(await read((await send(user, { ...content('offers'), urgency: 'high' })).id)).toMatchObject({
      urgency: 'high',
    })
    const shown = await until(
      () => client.call('readHandset', { params: { app, id: handset } }),
      ({ lockScreen }) => lockScreen.length === 2,
    )
    expect(shown.lockScreen.every(({ heard }) => heard === null)).toBe(true)
    const { out } = await command('notification', 'list', '--channel', 'offers', '--json')
    expect((JSON.parse(out) as { items: unknown[] }).items).toHaveLength(2)
    await client.call('saveChannel', { params: { app, channel: 'brief' }, body: { title: 'Brief' } })
    expect((await command('channel', 'delete', 'brief')).out).toBe('brief is gone.\n')
    expect(await codeOf(client.call('readChannel', { params: { app, channel: 'brief' } }))).toBe('unknown-channel')
  })

  test('that a person mutes in the app rings on none of their devices; others still do', async () => {
    const { user, handset } = await somebody()
    await client.call('makeHandset', { params, body: { platform: 'ios', user } as never })
    await client.call('actOnHandset', { params: { app, id: handset }, body: { do: 'mute-channel', channel: 'offers' } })
    const { id } = await send(user, content('offers'))
    await until(
      () => read(id),
      ({ state }) => state === 'finished',
    )
    expect((await read(id)).reasons).toMatchObject([{ reason: 'channel-muted', count: 2 }])
    expect(await became(user)).toBe('rung')
    const [channel] = (await client.call('listChannels', { params })).items
    expect(channel).toMatchObject({ channel: 'offers', mutedBy: 1, blockedOn: 0 })
    const review = await client.call('reviewNotification', {
      params,
      body: { to: { any: [`user:${user}`] }, ...content('offers') },
    })
    expect(review.leftOut).toMatchObject([{ reason: 'channel-muted', count: 2 }])
    await client.call('actOnHandset', { params: { app, id: handset }, body: { do: 'let-channel', channel: 'offers' } })
    expect(await became(user, content('offers'))).toBe('rung')
  })

  test('that the system blocks is told by the device, under the name that the platform has for it', async () => {
    const { user, handset } = await somebody()
    const block = (blockedChannels: string[]) =>
      client.call('changeHandset', { params: { app, id: handset }, body: { blockedChannels } })
    await block(['offers_v2'])
    expect(await became(user, content('offers'))).toBe('channel-blocked')
    const why = await client.call('explainDelivery', {
      params: { app, id: (await send(user, content('offers'))).id, who: user },
    })
    expect(why.verdict).toMatch(/blocks the notification’s channel|still in the queue/)
    await block([])
    expect(await became(user, content('offers'))).toBe('rung')
  })
})

describe('quiet hours', () => {
  test('let what comes wait or leave it out, by channel; what is urgent passes', async () => {
    const { user } = await somebody({ timeZone: 'UTC' })
    await settings({ quietHours: [{ ...nowQuiet('wait'), channels: ['offers'] }] })
    expect(await became(user, content('offers'))).toBe('quiet-hours')
    expect(await became(user)).toBe('rung')
    expect(await became(user, { ...content('offers'), urgency: 'high' })).toBe('rung')
    const { id } = await send(user, { ...content('offers'), ttlSeconds: 86_400 })
    const delivery = await first(id)
    expect(delivery).toMatchObject({ state: 'queued', attempts: 0 })
    expect(Date.parse(delivery.waits!.until) - Date.now()).toBeGreaterThan(100 * 60_000)
    expect((await read(id)).quiet).toMatchObject({ devices: 1 })
    const why = await client.call('explainDelivery', { params: { app, id, who: user } })
    expect(why.verdict).toMatch(/Not yet: it waits for quiet hours to end, \d\d:\d\d in UTC/)
    const watched = await command('notification', 'watch', id)
    expect(watched.err).toContain('1 device waits for quiet hours to end')
    await settings({ quietHours: [nowQuiet('skip')] })
    const skipped = await send(user)
    expect((await first(skipped.id)).reason?.code).toBe('quiet-hours')
    const explained = await client.call('explainDelivery', { params: { app, id: skipped.id, who: user } })
    expect(explained.devices[0]?.steps.some(({ says }) => /^By its clock it was \d\d:\d\d in UTC/.test(says))).toBe(
      true,
    )
    await settings({ quietHours: [] })
  })

  test('of a person’s own hold beside the app’s, set by the backend', async () => {
    const { user } = await somebody({ timeZone: 'UTC' })
    const { from, to } = nowQuiet('wait')
    const set = await command('quiet-hours', 'add', '--user', user, '--from', from, '--to', to, '--then', 'skip')
    expect(set.out).toContain('is left out')
    expect(await became(user)).toBe('quiet-hours')
    expect(await became(user, { urgency: 'high' })).toBe('rung')
    await command('quiet-hours', 'clear', '--user', user)
    expect(await became(user)).toBe('rung')
  })

  test('of a person let what waited for them go as soon as they are taken away, and nobody else’s', async () => {
    const people = [(await somebody({ timeZone: 'UTC' })).user, (await somebody({ timeZone: 'UTC' })).user] as const
    const quiet = (user: string, quietHours: object[]) =>
      client.call('saveQuietHours', { params: { app, user }, body: { quietHours } as never })
    for (const user of people) await quiet(user, [nowQuiet('wait')])
    const body = { to: { any: people.map((user) => `user:${user}`) }, content: { title: 'Sale' } }
    const { id } = await client.call('sendNotification', { params, body })
    const becomes = (good: (one: Awaited<ReturnType<typeof read>>) => boolean) => until(() => read(id), good)
    await becomes(({ quiet: waits }) => waits?.devices === 2)
    await quiet(people[0], [])
    await becomes(({ totals, quiet: waits }) => totals.shown === 1 && waits?.devices === 1)
    const why = await client.call('explainDelivery', { params: { app, id, who: people[0] } })
    const told = why.devices[0]?.steps.map(({ says }) => says)
    expect(told).toContain('It had waited for quiet hours, and went when they ended.')
    await quiet(people[1], [])
  })

  test('of the app let what waited go as soon as they are taken away', async () => {
    const { user } = await somebody({ timeZone: 'UTC' })
    await settings({ quietHours: [nowQuiet('wait')] })
    const { id } = await send(user)
    expect((await first(id)).waits?.reason).toBe('quiet-hours')
    await settings({ quietHours: [] })
    await until(
      () => read(id),
      ({ totals }) => totals.shown === 1,
    )
  })

  test('are told beforehand, by when they end for each', async () => {
    const { user } = await somebody({ timeZone: 'UTC' })
    await settings({ quietHours: [nowQuiet('wait')] })
    const review = await client.call('reviewNotification', {
      params,
      body: { to: { any: [`user:${user}`] }, content: { title: 'T' } },
    })
    expect(review).toMatchObject({ people: 1, devices: { android: 1 }, quiet: [{ devices: 1 }], leftOut: [] })
    const drawn = await command('send', '--to', `user:${user}`, '--title', 'T', '--review')
    expect(drawn.out).toContain('Wait for quiet hours to end\n  1 × until ')
    // At an hour at which they do not hold nobody waits.
    const at = new Date(Date.now() + 6 * 3_600_000).toISOString()
    const later = await client.call('reviewNotification', {
      params,
      body: { to: { any: [`user:${user}`] }, content: { title: 'T' }, when: { at } },
    })
    expect(later.quiet).toEqual([])
    await settings({ quietHours: [] })
  })
})

describe('a cap', () => {
  test('lets so many through to one person, on all of their devices; Why has the numbers, and the review says it', async () => {
    const { user } = await somebody()
    await client.call('makeHandset', { params, body: { platform: 'ios', user } as never })
    await command('cap', 'set', 'two-a-day', '--most', '2', '--hours', '24', '--channel', 'offers')
    expect(await became(user, content('offers'))).toBe('rung')
    expect(await became(user, content('offers'))).toBe('rung')
    const { id } = await send(user, content('offers'))
    expect(await first(id)).toMatchObject({ state: 'skipped', reason: { code: 'over-cap' }, cap: 'two-a-day' })
    const why = await client.call('explainDelivery', { params: { app, id, who: user } })
    const says = why.devices[0]?.steps.map((step) => step.says).join(' ')
    expect(says).toContain('The cap two-a-day lets 2 ring in 24 hours, and the person had got 2.')
    const review = await client.call('reviewNotification', {
      params,
      body: { to: { any: [`user:${user}`] }, ...content('offers') },
    })
    expect(review).toMatchObject({
      people: 0,
      caps: [{ cap: 'two-a-day', people: 1 }],
      leftOut: [{ reason: 'over-cap', count: 2 }],
    })
    expect(await became(user)).toBe('rung')
    await command('cap', 'remove', 'two-a-day')
    expect(await became(user, content('offers'))).toBe('rung')
  })

  test('gets back what every gateway refused', async () => {
    const { user, handset } = await somebody()
    await settings({ caps: [{ name: 'one', most: 1, hours: 1 }] })
    const { device } = await client.call('readHandset', { params: { app, id: handset } })
    // Longer than the gateway takes: it goes out, and comes back refused.
    const { id } = await send(user, {
      content: {
        title: 'T',
        body: 'x'.repeat(2_000),
        data: { more: 'y'.repeat(2_800) },
        navigate: `/${'z'.repeat(1_900)}`,
        subtitle: 'æ'.repeat(200),
        image: `https://ferries.example/${'p'.repeat(1_900)}`,
      },
    })
    await until(
      () => read(id),
      ({ state }) => state === 'finished',
    )
    expect((await first(id)).state).toBe('refused')
    expect(device).not.toBeNull()
    await until(
      () => became(user),
      (what) => what === 'rung',
    )
    expect(await became(user)).toBe('over-cap')
    await settings({ caps: [] })
  })
})

test('what the app asks takes neither quiet hours nor caps that make no sense, and says where', async () => {
  const pointers = (body: object) =>
    settings(body).then(
      () => [],
      (error: ProblemError) => error.problem.errors?.map(({ pointer }) => pointer),
    )
  expect(await pointers({ quietHours: [{ from: '24:00', to: '7:00', then: 'wait' }] })).toEqual([
    '/quietHours/0/from',
    '/quietHours/0/to',
  ])
  expect(await pointers({ quietHours: [{ from: '22:00', to: '07:00', then: 'wait', days: ['XX'] }] })).toEqual([
    '/quietHours/0/days/0',
  ])
  const cap = { name: 'offers', most: 1, hours: 1 }
  expect(await pointers({ caps: [cap, cap] })).toEqual(['/caps'])
  expect(
    await pointers({
      caps: [
        { ...cap, most: 0 },
        { ...cap, name: 'b', hours: 745 },
      ],
    }),
  ).toEqual(['/caps/0/most', '/caps/1/hours'])
  expect(await pointers({ caps: Array.from({ length: 21 }, (_, i) => ({ ...cap, name: `cap-${i}` })) })).toEqual([
    '/caps',
  ])
})

describe('a stop of the app', () => {
  test('halts whatever sends, tells what waits, and starts with what is still wanted', async () => {
    const [ada, bo] = [await somebody(), await somebody()]
    const stopped = await command('app', 'stop', '--reason', 'wrong times')
    expect(stopped.out).toContain('Stopped: wrong times')
    const [wanted, unwanted] = [await send(ada.user, { name: 'wanted' }), await send(bo.user)]
    const later = await send(ada.user, { when: { afterSeconds: 3_600 } })
    await client.call('saveSchedule', {
      params: { app, schedule: 'soon' },
      body: {
        when: { afterSeconds: 1 },
        notification: { to: { any: [`user:${ada.user}`] }, content: { title: 'Soon' } },
      },
    })
    const [run] = await until(
      async () => (await client.call('listRuns', { params: { app, schedule: 'soon' } })).items,
      (runs) => runs.length > 0,
    )
    expect(await read(wanted.id)).toMatchObject({ state: 'stopped', totals: { expanded: 1, queued: 1 } })
    expect((await read(later.id)).state).toBe('scheduled')
    const health = await client.call('readHealth', { params })
    expect(health.troubles[0]?.detail).toContain('The app is stopped: wrong times')
    const { waiting } = await client.call('readStop', { params })
    expect(waiting.map(({ notification }) => notification).sort()).toEqual(
      [wanted.id, unwanted.id, run!.notification].sort(),
    )
    const why = await client.call('explainDelivery', { params: { app, id: wanted.id, who: ada.user } })
    expect(why.verdict).toBe('Not yet: the app is stopped.')
    const started = await command('app', 'start', '--ring', wanted.id, run!.notification!)
    expect(started.out).toBe('It sends again; of 3 that waited, 2 ring.\n')
    for (const id of [wanted.id, run!.notification!])
      await until(
        () => read(id),
        ({ totals }) => totals.shown === 1,
      )
    expect(await read(unwanted.id)).toMatchObject({ state: 'cancelled', totals: { shown: 0 } })
    expect(await became(bo.user)).toBe('rung')
    await client.call('deleteSchedule', { params: { app, schedule: 'soon' } })
  })

  test('holds back within a second what is being sent', async () => {
    const people = await Promise.all(Array.from({ length: 6 }, () => somebody()))
    const { id } = await client.call('sendNotification', {
      params,
      body: { to: { any: people.map(({ user }) => `user:${user}`) }, content: { title: 'Slow' }, spreadSeconds: 18 },
    })
    await until(
      () => read(id),
      ({ totals }) => totals.queued < 6 && totals.expanded === 6,
    )
    await client.call('stopApp', { params, body: { reason: 'enough' } })
    const soon = await read(id)
    await new Promise((done) => setTimeout(done, 4_000))
    const after = await read(id)
    expect(after.totals.queued).toBeGreaterThanOrEqual(soon.totals.queued - 1)
    expect(after.state).toBe('stopped')
    await client.call('startApp', { params, body: { ring: 'none' } })
    await until(
      () => read(id),
      ({ state }) => state === 'cancelled',
    )
  })

  test('again and again, while others send, freezes nothing and fails nobody', async () => {
    const { user } = await somebody()
    const sent: string[] = []
    const answers: { readonly code: string; readonly ms: number }[] = []
    let going = true
    const timed = async (call: Promise<unknown>) => {
      const startMs = performance.now()
      answers.push({ code: await codeOf(call), ms: performance.now() - startMs })
    }
    const sender = async () => {
      for (let i = 0; going && i < 100; i++) await timed(send(user).then(({ id }) => sent.push(id)))
    }
    const senders = [sender(), sender(), sender()]
    for (let i = 0; i < inScope({ default: 30, all: 150, long: 150 }); i++) {
      await timed(client.call('stopApp', { params, body: { reason: 'again' } }))
      await timed(client.call('startApp', { params, body: { ring: 'all' } }))
    }
    going = false
    await Promise.all(senders)
    expect(answers.filter(({ code }) => code !== 'done')).toEqual([])
    // Well below a second on a quiet machine.
    expect(Math.max(...answers.map(({ ms }) => ms))).toBeLessThan(5_000 * Number(process.env.TEST_PACE))
    for (const id of sent)
      await until(
        () => read(id),
        ({ state }) => state === 'finished',
      )
  })
})
