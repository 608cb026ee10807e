import { readFileSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { fileURLToPath } from 'node:url'
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import { Client, type NewTrigger, type ProblemError } from '@zbell/contract'
import { until, zbell } from './harness/programs.ts'
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
const somebody = async () => {
  const user = `somebody-${++count}`
  await client.call('makeHandset', { params, body: { platform: 'ios', user } as never })
  return user
}
const save = (trigger: string, body: NewTrigger) =>
  client.call('saveTrigger', { params: { app, trigger }, body: { enabled: true, ...body } })
const firings = async (trigger: string) =>
  (await client.call('listFirings', { params: { app, trigger }, query: { limit: 200 } })).items
const happened = (type: string, subject: string | undefined, data: object = {}, id = `event-${++count}`) =>
  client.call('reportOccurrences', {
    params,
    body: {
      specversion: '1.0',
      id,
      source: 'https://tickets.merrow-sound.example',
      type,
      ...(subject === undefined ? {} : { subject }),
      data: data as never,
    },
  })
const read = (id: string) => client.call('readNotification', { params: { app, id } })
const pointers = (call: Promise<unknown>) =>
  call.then(
    () => [],
    (error: unknown) => (error as ProblemError).problem.errors?.map(({ pointer, detail }) => `${pointer} ${detail}`),
  )

const booked: NewTrigger = {
  source: 'occurrences',
  types: ['example.booked'],
  to: { any: ["'user:' + event.subject"] },
  content: { title: 'You are on board of {vessel}', navigate: '/bookings' },
  values: { vessel: 'event.data.vessel' },
  key: "event.subject + ' ' + string(event.data.sailing)",
}

describe('a trigger on what happens', () => {
  test('rings its person with the words of the case, once for each event, and logs it', async () => {
    await save('booked', {
      ...booked,
      cases: [
        {
          when: "event.data.deck == 'car'",
          content: { title: 'Drive aboard {vessel} at berth {berth}' },
          values: { vessel: 'event.data.vessel', berth: 'event.data.berth' },
        },
        { when: 'true' },
      ],
    })
    const user = await somebody()
    await happened('example.booked', user, { sailing: 101, vessel: 'Kittiwake', deck: 'car', berth: 2 })
    const [one] = await until(
      () => firings('booked'),
      (all) => all.length === 1,
    )
    expect(one).toMatchObject({ state: 'rung', caseNo: 0, key: `${user} 101`, version: 1 })
    const rung = await until(
      () => read(one!.notification!),
      ({ totals }) => totals.shown === 1,
    )
    expect(rung).toMatchObject({ sentBy: 'trigger:booked', shows: { title: 'Drive aboard Kittiwake at berth 2' } })
    await happened('example.searched', user)
    await happened('example.booked', user, { sailing: 102, vessel: 'Turnstone' })
    const [second] = await until(
      () => firings('booked'),
      (all) => all.length === 2,
    )
    expect(second).toMatchObject({ state: 'rung', caseNo: 1 })
    const { out } = await command('trigger', 'log', 'booked')
    expect(out).toContain(`${user} 102`)
  })

  test('fires once for an event that is reported twice, and not more often than it says for a key', async () => {
    await save('once', { ...booked, types: ['example.once'], notMoreOftenThan: 3_600 })
    const user = await somebody()
    for (let n = 0; n < 2; n++) await happened('example.once', user, { sailing: 1, vessel: 'Sandpiper' }, 'the-same')
    await happened('example.once', user, { sailing: 1, vessel: 'Sandpiper' })
    await happened('example.once', user, { sailing: 2, vessel: 'Sandpiper' })
    const all = await until(
      () => firings('once'),
      (found) => found.length === 3,
    )
    expect(all.map(({ state }) => state).reverse()).toEqual(['rung', 'throttled', 'rung'])
    expect(all[1]?.says).toContain('within the last 3600 seconds')
  })

  test('says of each what it lacks, and goes on', async () => {
    await save('lacking', { ...booked, types: ['example.lacking'], when: 'event.data.sailing > 0' })
    const user = await somebody()
    await happened('example.lacking', 'nobody-here', { sailing: 1, vessel: 'Kittiwake' })
    await happened('example.lacking', undefined, { sailing: 2, vessel: 'Kittiwake' })
    await happened('example.lacking', user, { sailing: 0, vessel: 'Kittiwake' })
    await happened('example.lacking', user, { sailing: 3 })
    await happened('example.lacking', user, { sailing: 4, vessel: 'Kittiwake' })
    const all = await until(
      () => firings('lacking'),
      (found) => found.length === 5,
    )
    expect(all.map(({ state }) => state).reverse()).toEqual(['nobody', 'fault', 'no-case', 'fault', 'rung'])
  })

  test('takes what an event says as text, whatever it says, and goes on', async () => {
    await save('hostile', {
      ...booked,
      types: ['example.hostile'],
      to: { any: ["'user:' + event.data.who"] },
      key: 'string(event.data.n)',
    })
    const user = await somebody()
    const words = [
      "'; drop table triggers; --",
      '{vessel} {n, plural, one {#}}',
      "' + event.subject + '",
      '<b>\u2028"\\"</b> 😀',
      'x'.repeat(9_000),
    ]
    for (const [n, vessel] of words.entries()) await happened('example.hostile', undefined, { n, who: user, vessel })
    const others = ['everyone', `${user} topic:all`, `${user}', 'everyone`, null, { any: 'everyone' }, '__proto__']
    for (const [n, who] of others.entries())
      await happened('example.hostile', undefined, { n: 100 + n, who, vessel: 'x' })
    const evil: object = JSON.parse(`{"n": 200, "who": "${user}", "__proto__": {"who": "everyone"}}`)
    await expect(happened('example.hostile', undefined, evil)).rejects.toThrow('/data/__proto__ has a reserved name')
    await happened('example.hostile', undefined, { n: 200, who: user, vessel: 'Kittiwake' })
    const all = await until(
      () => firings('hostile'),
      (found) => found.some(({ key }) => key === '200'),
    )
    const of = (n: number) => all.find(({ key }) => key === String(n))
    for (const n of others.keys())
      expect(all.filter(({ given }) => (given as { event: { data: { n: number } } }).event.data.n === 100 + n)).toEqual(
        [expect.objectContaining({ state: expect.stringMatching(/^(nobody|fault)$/), notification: null })],
      )
    for (const n of [0, 1, 2, 3]) {
      const rung = await read(of(n)!.notification!)
      expect(rung.to).toEqual({ any: [`user:${user}`] })
      expect(rung.shows.title).toBe(`You are on board of ${words[n]}`)
    }
    expect(of(200)).toMatchObject({ state: 'rung' })
    expect((await client.call('readTrigger', { params: { app, trigger: 'hostile' } })).pausedBecause).toBeNull()
  })

  test('waits when it is told to, and does not ring when that is over by then', async () => {
    await save('reminder', {
      ...booked,
      types: ['example.left'],
      after: 2,
      unless: "event.data.vessel == 'Turnstone'",
      options: { urgency: 'high', tag: "'cart-' + string(event.data.sailing)" },
    })
    const user = await somebody()
    await happened('example.left', user, { sailing: 7, vessel: 'Kittiwake' })
    await happened('example.left', user, { sailing: 8, vessel: 'Turnstone' })
    const waiting = await until(
      () => firings('reminder'),
      (all) => all.length === 2,
    )
    expect(waiting.every(({ state, dueAt }) => state === 'waiting' && dueAt !== null)).toBe(true)
    const all = await until(
      () => firings('reminder'),
      (found) => found.every(({ state }) => state !== 'waiting'),
    )
    expect(all.map(({ state }) => state)).toEqual(['not-needed', 'rung'])
    expect(await read(all[1]!.notification!)).toMatchObject({ urgency: 'high', content: { tag: 'cart-7' } })
  })

  test('fills in a template, and says which value it misses', async () => {
    await client.call('saveTemplate', {
      params: { app, template: 'delay' },
      body: {
        content: { title: '{vessel} is {delay} minutes late' },
        declares: { vessel: { type: 'text' }, delay: { type: 'number' } },
      },
    })
    await save('late', {
      ...booked,
      types: ['example.late'],
      content: undefined,
      template: 'delay',
      values: { vessel: 'event.data.vessel', delay: 'event.data.delay' },
    })
    const user = await somebody()
    await happened('example.late', user, { sailing: 1, vessel: 'Kittiwake', delay: 15 })
    await happened('example.late', user, { sailing: 2, vessel: 'Kittiwake', delay: null })
    const all = await until(
      () => firings('late'),
      (found) => found.length === 2,
    )
    expect(all[1]).toMatchObject({ state: 'rung' })
    expect(all[0]).toMatchObject({ state: 'fault', key: `${user} 2`, says: expect.stringContaining('delay') })
    const { troubles } = await client.call('readHealth', { params })
    expect(troubles.map(({ detail }) => detail).join(' ')).toContain('The trigger late could not ring the last time')
    expect(await read(all[1]!.notification!)).toMatchObject({ template: 'delay@1' })
  })

  test('that fires far more often than it ever did is paused before it rings everybody, and goes on when somebody says so', async () => {
    await world.operator.call('changeSettings', {
      params,
      query: { environment: 'development' },
      body: { runawayFloor: 3 },
    })
    await save('runaway', { ...booked, types: ['example.flood'] })
    const user = await somebody()
    for (let n = 0; n < 6; n++) await happened('example.flood', user, { sailing: n, vessel: 'Kittiwake' })
    const all = await until(
      () => firings('runaway'),
      (found) => found.length === 6,
    )
    expect(all.filter(({ state }) => state === 'rung')).toHaveLength(3)
    expect(all.filter(({ state }) => state === 'dropped')).toHaveLength(3)
    const { troubles } = await client.call('readHealth', { params })
    expect(troubles.map(({ detail }) => detail).join(' ')).toContain(
      'The trigger runaway was paused before it rang everybody',
    )
    expect((await command('trigger', 'list')).out).toContain('paused')
    expect((await command('trigger', 'enable', 'runaway')).out).toBe(
      'runaway is on. More than 3 firings within an hour would pause it.\n',
    )
    // Within the same hour: what it fired before it was paused does not count any more.
    await happened('example.flood', user, { sailing: 9, vessel: 'Kittiwake' })
    await until(
      () => firings('runaway'),
      ([newest]) => newest?.state === 'rung',
    )
    expect((await client.call('readTrigger', { params: { app, trigger: 'runaway' } })).pausedBecause).toBeNull()
    await world.operator.call('changeSettings', {
      params,
      query: { environment: 'development' },
      body: { runawayFloor: 10_000 },
    })
  })
})

describe('a trigger that is written', () => {
  test('is tried before it is switched on: nothing is stored and nothing rings', async () => {
    const file = join(world.data, 'freed.yaml')
    writeFileSync(
      file,
      [
        'trigger: freed',
        'source: occurrences',
        'types: [example.freed]',
        'to: { any: ["\'topic:\' + event.data.route"] }',
        'content: { title: "A place on {vessel} is free" }',
        'values: { vessel: event.data.vessel }',
      ].join('\n'),
    )
    expect((await command('trigger', 'save', file)).out).toContain('# off, version 1')
    const event = JSON.stringify({ type: 'example.freed', data: { route: 'route-4', vessel: 'Kittiwake' } })
    expect((await command('trigger', 'try', 'freed', '--event', event)).out).toContain(
      'It cannot ring: topic:route-4 is not a topic of this app',
    )
    await client.call('declareTopic', { params: { app, topic: 'route-4' }, body: {} as never })
    const tried = await command('trigger', 'try', 'freed', '--event', event)
    expect(tried.out).toContain('It fires, by case 1')
    expect(tried.out).toContain('for the key')
    expect(tried.out).toContain('0 devices of 0 people')
    const request = {
      event: { type: 'example.freed', id: '1', source: 's', data: { route: 'route-4', vessel: 'Kittiwake' } },
    }
    const { review, cases, caseNo } = await client.call('tryTrigger', {
      params: { app, trigger: 'freed' },
      body: request,
    })
    expect({ caseNo, cases, left: review?.faults.map(({ field }) => field) }).toEqual({
      caseNo: 0,
      cases: [],
      left: ['to'],
    })
    expect((await command('trigger', 'try', 'freed', '--event', '{"data": {}}')).out).toContain(
      'It cannot ring: the reference',
    )
    await happened('example.freed', undefined, { route: 'route-4', vessel: 'Kittiwake' })
    await command('trigger', 'save', file, '--enable')
    // A save says nothing of whether it runs, and leaves that as it is; what says the same is no version of its own.
    expect((await command('trigger', 'save', file)).out).toContain('# on, version 1')
    expect((await client.call('readTrigger', { params: { app, trigger: 'freed' } })).version).toBe(1)
    await happened('example.freed', undefined, { route: 'route-4', vessel: 'Kittiwake' })
    const all = await until(
      () => firings('freed'),
      (found) => found.length === 1,
    )
    expect(all[0]).toMatchObject({ state: 'nobody', version: 1 })
    expect((await command('trigger', 'disable', 'freed')).out).toBe('freed is off.\n')
    expect((await command('trigger', 'delete', 'freed')).out).toBe('freed is gone.\n')
    expect((await command('trigger', 'show', 'freed')).code).toBe(5)
  })

  test('is the one of the manual, tried as it says there', async () => {
    const example = fileURLToPath(new URL('../docs/examples/booked-trigger.yaml', import.meta.url))
    expect(readFileSync(new URL('../docs/triggers.md', import.meta.url), 'utf8')).toContain(
      readFileSync(example, 'utf8'),
    )
    const user = await somebody()
    expect((await command('trigger', 'save', example)).out).toMatch(/^# (on|off), version/)
    const shown = join(world.data, 'shown.yaml')
    writeFileSync(shown, (await command('trigger', 'show', 'booked')).out)
    expect((await command('trigger', 'save', shown)).code).toBe(0)
    const event = (data: object) => JSON.stringify({ id: 'b-1', subject: user, data })
    const aboard = await command('trigger', 'try', 'booked', '--event', event({ sailing: 101, deck: 'car', berth: 2 }))
    expect(aboard.out).toContain('It fires, by case 1, for the key b-1.')
    expect(aboard.out).toContain('Drive aboard at berth 2')
    const afoot = await command('trigger', 'try', 'booked', '--event', event({ sailing: 102 }))
    expect(afoot.out).toContain('It fires, by case 2')
    expect(afoot.out).toContain('You are booked on sailing 102')
    await command('trigger', 'delete', 'booked')
  })

  test('is refused at each place that cannot be', async () => {
    expect(
      await pointers(save('bad', { ...booked, when: 'event.data.x >', values: { vessel: 'sailing.vessel' } })),
    ).toEqual([
      expect.stringContaining('/when line 1'),
      expect.stringContaining('/values/vessel line 1, column 1: “sailing” is not known here'),
    ])
    expect(await pointers(save('bad', { ...booked, source: 'sailings' }))).toEqual([
      expect.stringContaining('/source is not a source'),
    ])
    expect(await pointers(save('Bad Name', booked))).toEqual([expect.stringContaining('/trigger')])
    const { to: _to, ...nobody } = booked
    expect(await pointers(save('bad', nobody))).toEqual([expect.stringContaining('/to is needed')])
  })

  test('touches no other app: what it names is of its own app and environment', async () => {
    await world.makeApp('other')
    const key = await world.makeKey('other', 'backend')
    const other = new Client({ url: world.url, bearer: key })
    await other.call('makeHandset', { params: { app: 'other' }, body: { platform: 'ios', user: 'ada' } as never })
    await save('ada', { ...booked, types: ['example.ada'], to: { any: ["'user:ada'"] } })
    await happened('example.ada', undefined, { sailing: 1, vessel: 'x' })
    const all = await until(
      () => firings('ada'),
      (found) => found.length === 1,
    )
    expect(all[0]?.state).toMatch(/nobody|fault/)
    expect((await other.call('listNotifications', { params: { app: 'other' } })).items).toEqual([])
  })
})

test('a service that dies at any moment lets each event fire once', async () => {
  await save('each', { ...booked, types: ['example.each'] })
  const user = await somebody()
  const report = (from: number) =>
    client.call('reportOccurrences', {
      params,
      body: Array.from({ length: 40 }, (_, n) => ({
        specversion: '1.0' as const,
        id: `each-${from + n}`,
        source: 'https://tickets.merrow-sound.example',
        type: 'example.each',
        subject: user,
        data: { sailing: from + n, vessel: 'Kittiwake' },
      })),
    })
  await report(0)
  await world.killService()
  await world.startService()
  await report(20)
  await world.killService()
  await world.startService()
  const all = await until(
    () => firings('each'),
    (found) => found.length >= 60,
  )
  expect(new Set(all.map(({ key }) => key)).size).toBe(60)
  expect(all).toHaveLength(60)
  expect(all.every(({ state }) => state === 'rung')).toBe(true)
})
