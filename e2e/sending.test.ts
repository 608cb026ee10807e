import { fileURLToPath } from 'node:url'
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import type { Notification, NotificationRequest } from '@zbell/contract'
import { ProblemError } from '@zbell/contract/client'
import { faultProfile } from '@zbell/standins'
import { fillDevices } from './harness/fleet.ts'
import { until, zbell } from './harness/programs.ts'
import { atLength } from './harness/scope.ts'
import { app, params, World } from './harness/world.ts'

let world: World
const fleet = 3_000
const calm = faultProfile.parse({})

beforeAll(async () => {
  world = await World.open()
  await world.handset(1, 'ios', { user: 'ada' })
  await world.handset(2, 'android', { user: 'signe' })
  await world.handset(3, 'web', { user: 'haru' })
  await world.handset(4, 'ios', { user: 'nour', permission: 'denied' })
  await fillDevices(
    world.databaseUrl,
    Array.from({ length: fleet }, () => world.standins.mints.ios.mint()),
  )
})
afterAll(() => world.close())

const handset = (n: number) => world.standins.registry.find(app, `h${n}`)!
const review = (body: NotificationRequest, query = {}) =>
  world.backend.call('reviewNotification', { params, body, query })
const hold = (id: string, wish: 'paused' | 'none' | 'cancelled') =>
  world.backend.call('holdNotification', { params: { app, id }, body: { hold: wish } })
const why = (id: string, who: string) => world.backend.call('explainDelivery', { params: { app, id, who } })
const over = (id: string) =>
  until(
    () => world.notification(id),
    ({ state }) => state === 'finished' || state === 'cancelled',
  )
const adds = ({ totals: { expanded, ...states } }: Notification) =>
  expect(Object.values(states).reduce((sum, count) => sum + count, 0)).toBe(expanded)
const refused = (code: string) => expect.objectContaining({ problem: expect.objectContaining({ code }) })

describe('a review', () => {
  test('counts who would be rung, says who is left out, and stores nothing', async () => {
    const { items: before } = await world.backend.call('listNotifications', { params })
    const told = await review(
      {
        to: { any: ['user:ada', 'user:nour', 'user:haru'] },
        content: { title: 'Hello {pier}' },
        fallbacks: { pier: 'you' },
      },
      { list: 'permission-denied' },
    )
    expect(told).toMatchObject({
      people: 2,
      devices: { ios: 1, android: 0, web: 1 },
      leftOut: [{ reason: 'permission-denied', count: 1 }],
      listed: [{ user: 'nour', platform: 'ios' }],
      faults: [],
    })
    expect(told.samples.map(({ platform, content }) => [platform, content.title])).toEqual([
      ['ios', 'Hello you'],
      ['web', 'Hello you'],
    ])
    expect(told.samples.every(({ bytes, limitBytes }) => bytes > 20 && bytes < limitBytes!)).toBe(true)
    expect((await world.backend.call('listNotifications', { params })).items).toHaveLength(before.length)
  })
  test('wants a fallback for what somebody lacks, and none for what all have', async () => {
    const to = { any: ['user:ada', 'user:signe'] }
    const set = (user: string, pier: string | null) =>
      world.backend.call('changeUserAttributes', { params: { app, user }, body: { pier } })
    await set('ada', 'Saltmere')
    const [fault] = (await review({ to, content: { title: '{pier}' } })).faults
    expect(fault).toMatchObject({ field: 'fallbacks.pier', says: expect.stringContaining('1 of the devices') })
    await set('signe', 'Gull Point')
    const { faults, samples } = await review({ to, content: { title: '{pier}' } })
    expect(faults).toEqual([])
    expect(samples.map(({ content }) => content.title).sort()).toEqual(['Gull Point', 'Saltmere'])
    await set('signe', null)
  })
  test('refuses what the gateway would: too large, or nobody there', async () => {
    const data = Object.fromEntries(Array.from({ length: 28 }, (_, i) => [`k${i}`, 'x'.repeat(90)]))
    const { faults } = await review({
      to: { any: ['user:ada'] },
      content: { title: 'T', body: 'ö'.repeat(1_000), data },
    })
    expect(faults[0]).toMatchObject({ field: 'content', says: expect.stringContaining('4096') })
    expect((await review({ to: { any: ['user:nour'] }, content: { title: 'T' } })).faults[0]?.field).toBe('to')
  })
  test('shows what one person would get on each device, in their own language, or why they would not', async () => {
    await world.backend.call('changeUserAttributes', { params: { app, user: 'ada' }, body: { language: 'nb' } })
    const content = { title: 'The ferry', perLanguage: { nb: { title: 'Ferja' }, de: { title: 'Die Fähre' } } }
    const { person, samples } = await review({ to: { any: ['user:ada'] }, content }, { user: 'ada' })
    expect(person).toMatchObject({
      user: 'ada',
      detail: null,
      devices: [{ platform: 'ios', rings: true, reason: null }],
    })
    expect(samples).toMatchObject([{ platform: 'ios', user: 'ada', language: 'nb', content: { title: 'Ferja' } }])
    // Of everybody, a reader stands only for what they would get; a language that none of them reads is nobody's.
    const all = (await review({ to: { any: ['user:ada'] }, content })).samples
    expect(all.map(({ user, content: { title } }) => [user, title])).toEqual([
      ['ada', 'Ferja'],
      [null, 'The ferry'],
      [null, 'Die Fähre'],
    ])
    const other = await review({ to: { any: ['user:haru'] }, content }, { user: 'ada' })
    expect(other.person).toMatchObject({
      detail: 'It would ring none of ada’s devices.',
      devices: [{ rings: false, reason: 'not-in-target', sample: { content: { title: 'Ferja' } } }],
    })
    const denied = await review({ to: { any: ['everyone'] }, content }, { user: 'nour' })
    expect(denied.person?.devices).toMatchObject([{ rings: false, reason: 'permission-denied' }])
    const nobody = await review({ to: { any: ['everyone'] }, content }, { user: 'nobody-here' })
    expect(nobody.person).toEqual({ user: 'nobody-here', detail: 'Nobody is called nobody-here here.', devices: [] })
    await world.backend.call('changeUserAttributes', { params: { app, user: 'ada' }, body: { language: null } })
  })
  test('is what ?dryRun=true answers', async () => {
    const answer = await fetch(`${world.url}/v1/apps/${app}/notifications?dryRun=true`, {
      method: 'POST',
      headers: { authorization: `Bearer ${world.backendKey}`, 'content-type': 'application/json' },
      body: JSON.stringify({ to: { any: ['user:ada'] }, content: { title: 'T' } }),
    })
    expect(answer.status).toBe(200)
    expect(await answer.json()).toMatchObject({ people: 1, devices: { ios: 1 } })
  })
  test('is shown by zbell, which sends to many only with --yes when nobody can be asked', async () => {
    const env = { ZBELL_URL: world.url, ZBELL_KEY: world.backendKey, ZBELL_APP: app }
    const shown = await zbell(['send', '--to', 'user:ada', '--title', '{n} boats', '--value', 'n=2', '--review'], env)
    expect(shown.out).toContain('1 device of 1 person: ios 1')
    expect(shown.out).toContain('2 boats')
    const asked = await zbell(['send', '--to', 'everyone', '--title', 'T'], env)
    expect(asked).toMatchObject({ code: 2, err: expect.stringContaining('add --yes') })
  })
})

describe('content', () => {
  test('arrives whole on each platform, in the words of its reader', async () => {
    await world.backend.call('changeUserAttributes', { params: { app, user: 'haru' }, body: { language: 'ar' } })
    const id = await world.send({
      to: { any: ['user:ada', 'user:signe', 'user:haru'] },
      content: {
        title: '{delay, plural, one {# minute} other {# minutes}} late',
        subtitle: 'Kittiwake',
        body: 'From {pier}',
        sound: 'horn',
        vibrate: [200, 100],
        group: 'route-4',
        accent: '#b5893a',
        image: 'https://merrow-sound.example/k.png',
        badgeCount: 7,
        actions: [{ action: 'later', title: 'Later', navigate: '/later/{delay}' }],
        perLanguage: { ar: { title: 'تأخير {delay} دقيقة' } },
      },
      values: { delay: 15 },
      fallbacks: { pier: 'Lantern Quay' },
    })
    await over(id)
    const shown = async (n: number) => {
      const view = await until(
        () => handset(n).view(),
        ({ lockScreen }) => lockScreen.some(({ notification }) => notification === id),
      )
      return { badge: view.badge, ...view.lockScreen.find(({ notification }) => notification === id)! }
    }
    expect(await shown(1)).toMatchObject({
      title: '15 minutes late',
      subtitle: 'Kittiwake',
      body: 'From Saltmere',
      group: 'route-4',
      accent: '#b5893a',
      heard: 'horn',
      vibrated: [200, 100],
      image: 'https://merrow-sound.example/k.png',
      actions: [{ action: 'later', title: 'Later' }],
      badge: 7,
    })
    expect(await shown(2)).toMatchObject({
      title: '15 minutes late',
      body: 'From Lantern Quay',
      heard: 'horn',
      badge: 7,
    })
    expect(await shown(3)).toMatchObject({
      title: 'تأخير 15 دقيقة',
      body: 'Kittiwake\nFrom Lantern Quay',
      dir: 'rtl',
      badge: 7,
    })
    await handset(1).tap(id, 'later')
    expect((await handset(1).view()).opened).toBe('/later/15')
    const told = await until(
      () => why(id, 'ada'),
      ({ verdict }) => verdict.includes('opened'),
    )
    expect(told.devices[0]?.steps.at(-1)?.says).toBe('It was opened with “later”.')
  })
  test('with a value that one person lacks skips that person, and says so', async () => {
    const id = await world.send({ to: { any: ['user:ada', 'user:signe'] }, content: { title: '{pier}' } })
    expect((await over(id)).reasons).toMatchObject([{ reason: 'missing-value', count: 1 }])
    expect((await why(id, 'signe')).verdict).toContain('names a value that this person does not have')
  })
  test.each<[string, object, string]>([
    ['a brace left open', { title: '{pier' }, '/content/title'],
    ['a fault in another language', { title: 'T', perLanguage: { nb: { body: '{' } } }, '/content/perLanguage/nb/body'],
    ['a language that is none', { title: 'T', perLanguage: { 'not a tag': { body: 'x' } } }, '/content/perLanguage'],
    ['half a surrogate pair', { title: 'T\ud800' }, '/content/title'],
    ['a NUL', { title: 'T', body: 'a\u0000b' }, '/content/body'],
    ['100,000 characters', { title: 'x'.repeat(100_000) }, '/content/title'],
    [
      'five buttons',
      { title: 'T', actions: Array.from({ length: 5 }, (_, i) => ({ action: `a${i}`, title: 'x' })) },
      '/content/actions',
    ],
    ['a picture that is a script', { title: 'T', image: 'javascript:alert(1)' }, '/content/image'],
  ])('with %s is refused at its place', async (_name, content, pointer) => {
    const sent = world.backend.call('sendNotification', {
      params,
      body: { to: { any: ['user:ada'] }, content } as never,
    })
    const error = (await sent.catch((one: unknown) => one)) as ProblemError
    expect(error).toBeInstanceOf(ProblemError)
    expect(error.problem.errors?.[0]?.pointer).toMatch(new RegExp(`^${pointer}`))
  })
})

describe('a template', () => {
  const save = (content: object, declares: object) =>
    world.backend.call('saveTemplate', { params: { app, template: 'delay' }, body: { content, declares } as never })

  test('is filled in, and what was sent by an earlier version stays as it was', async () => {
    const declares = { vessel: { type: 'text' }, pier: { type: 'text', ofPerson: true, fallback: 'the pier' } }
    for (const _ of [1, 2]) expect((await save({ title: '{vessel} is late at {pier}' }, declares)).version).toBe(1)
    const to = { any: ['user:signe'] }
    const id = await world.send({ to, template: 'delay', values: { vessel: 'Turnstone' } })
    await over(id)
    const next = { title: '{vessel} is cancelled', tag: 'boat-{vessel}' }
    expect((await save(next, { vessel: declares.vessel })).version).toBe(2)
    expect(await world.notification(id)).toMatchObject({
      template: 'delay@1',
      shows: { title: 'Turnstone is late at the pier' },
    })
    const later = await world.send({ to, template: 'delay', values: { vessel: 'Turnstone' } })
    expect(await world.notification(later)).toMatchObject({
      shows: { title: 'Turnstone is cancelled' },
      content: { tag: 'boat-Turnstone' },
    })
    const older = await review({ to, template: 'delay@1', values: { vessel: 'Sandpiper' } })
    expect(older.samples[0]?.content.title).toBe('Sandpiper is late at the pier')
  })
  test('refuses values that it does not ask for, and misses those that it does', async () => {
    const sent = (values: object) => world.send({ to: { any: ['user:ada'] }, template: 'delay', values })
    for (const values of [{}, { vessel: 15 }, { vessel: 'Kittiwake', berth: 2 }])
      await expect(sent(values)).rejects.toEqual(refused('invalid-request'))
    await expect(world.send({ to: { any: ['user:ada'] }, template: 'delay@9' })).rejects.toEqual(
      refused('unknown-template'),
    )
    await expect(save({ title: '{undeclared}' }, {})).rejects.toEqual(refused('invalid-request'))
  })
  test('is saved, shown and sent by zbell, and taken off the list', async () => {
    const env = { ZBELL_URL: world.url, ZBELL_KEY: world.backendKey, ZBELL_APP: app }
    const file = fileURLToPath(new URL('../docs/examples/delay-template.yaml', import.meta.url))
    expect((await zbell(['template', 'save', 'late', file], env)).out).toContain('Saved as late@1')
    const values = ['vessel=Kittiwake', 'delay=1', 'departs=2026-11-23T17:45:00Z', 'berth=2', 'sailing=101']
    const sent = await zbell(['send', '--template', 'late', '--to', 'user:ada', '--value', ...values, '--review'], env)
    expect(sent.out).toContain('Kittiwake is 1 minute late')
    expect((await zbell(['template', 'list'], env)).out).toMatch(/late +1 +vessel delay departs berth sailing homePier/)
    expect((await zbell(['template', 'delete', 'late'], env)).code).toBe(0)
    expect((await zbell(['template', 'show', 'late'], env)).code).toBe(5)
    expect((await zbell(['template', 'show', 'late@1'], env)).out).toContain('"version": 1')
  })
})

describe('a target', () => {
  test('takes away, narrows and picks platforms', async () => {
    const id = await world.send({
      to: { any: ['user:ada', 'user:signe', 'user:haru'], none: ['user:signe'], platforms: ['ios', 'android'] },
      content: { title: 'T' },
    })
    const { totals } = await over(id)
    expect(totals.expanded).toBe(1)
    const text = await until(
      () => why(id, 'signe'),
      ({ devices }) => devices.length > 0,
    )
    expect(text.verdict).toBe('No: the target does not name this device.')
  })
  test('can be a single token, and says when it is nobody’s', async () => {
    const { token } = handset(1).state
    const id = await world.send({ to: { any: [`token:${token}`] }, content: { title: 'T' } })
    expect((await over(id)).totals.expanded).toBe(1)
    await expect(world.send({ to: { any: ['token:nobodys'] }, content: { title: 'T' } })).rejects.toEqual(
      refused('invalid-request'),
    )
  })
})

describe('while it goes', () => {
  const slow = { ...calm, delayMs: 150 }
  const broadcast = (more: object = {}) =>
    world.send({ to: { any: ['everyone'], platforms: ['ios'] }, mode: 'wake', content: {}, ...more })
  const begun = (id: string) =>
    until(
      () => world.notification(id),
      ({ totals }) => totals.accepted > 0,
    )

  test('it is paused within a second, goes on, and leaves nobody out', async () => {
    world.standins.ios.faultProfile = slow
    const before = world.standins.ios.books.taken
    const id = await broadcast({ name: 'storm' })
    await begun(id)
    await hold('storm', 'paused')
    // What was on its way lands and is written down; then nothing more happens.
    const gone = () => world.standins.ios.books.taken - before
    const first = await until(
      () => world.notification(id),
      ({ totals }) => totals.accepted + totals.received === gone(),
    )
    const taken = world.standins.ios.books.taken
    await new Promise((done) => setTimeout(done, 700))
    expect(await world.notification(id)).toMatchObject({ state: 'paused', totals: first.totals })
    expect(world.standins.ios.books.taken).toBe(taken)
    expect(first.totals.queued).toBeGreaterThan(0)
    world.standins.ios.faultProfile = calm
    await hold(id, 'none')
    const done = await over(id)
    adds(done)
    expect(done.totals.queued).toBe(0)
    expect(done.totals.accepted + done.totals.received).toBe(done.totals.expanded)
  })
  test('it is cancelled within a second, and says exactly what had gone', async () => {
    world.standins.ios.faultProfile = slow
    const before = world.standins.ios.books.taken
    const id = await broadcast()
    await begun(id)
    await hold(id, 'cancelled')
    const done = await over(id)
    const taken = world.standins.ios.books.taken
    world.standins.ios.faultProfile = calm
    await new Promise((done) => setTimeout(done, 400))
    adds(done)
    expect(done.state).toBe('cancelled')
    expect(done.totals.withdrawn).toBeGreaterThan(0)
    expect(done.totals.accepted + done.totals.received).toBe(taken - before)
    expect(world.standins.ios.books.taken).toBe(taken)
    await expect(hold(id, 'none')).rejects.toEqual(refused('already-over'))
  })
  test('an urgent one overtakes it', async () => {
    world.standins.ios.faultProfile = slow
    const id = await broadcast()
    await begun(id)
    const urgent = await world.send({ to: { any: ['user:signe'] }, urgency: 'high', content: { title: 'Now' } })
    await over(urgent)
    expect((await world.notification(id)).state).not.toBe('finished')
    world.standins.ios.faultProfile = calm
    await hold(id, 'cancelled')
    await over(id)
  })
  test('a name is one live notification’s, and free again afterwards', async () => {
    world.standins.ios.faultProfile = slow
    const id = await broadcast({ name: 'timetable' })
    await expect(broadcast({ name: 'timetable' })).rejects.toEqual(refused('name-taken-live'))
    await hold('timetable', 'cancelled')
    world.standins.ios.faultProfile = calm
    await over(id)
    const again = await world.send({ to: { any: ['user:ada'] }, name: 'timetable', content: { title: 'T' } })
    expect((await world.backend.call('readNotification', { params: { app, id: 'timetable' } })).id).toBe(again)
    await over(again)
  })
  test('one that waits can be changed until it goes, and not after', async () => {
    const to = { any: ['user:ada'] }
    const id = await world.send({ to, content: { title: 'Boardign is open' }, name: 'typo', paused: true })
    await new Promise((done) => setTimeout(done, 400))
    expect(await world.notification(id)).toMatchObject({ state: 'paused', totals: { expanded: 0 } })
    const edit = (body: object) =>
      world.backend.call('editNotification', { params: { app, id: 'typo' }, body: body as never })
    await expect(edit({ content: { title: '{' } })).rejects.toEqual(refused('invalid-request'))
    await expect(edit({})).rejects.toEqual(refused('invalid-request'))
    await edit({ content: { title: 'Boarding is {what}' }, values: { what: 'open' } })
    await hold(id, 'none')
    await over(id)
    await until(
      () => handset(1).view(),
      ({ lockScreen }) => lockScreen.some(({ title }) => title === 'Boarding is open'),
    )
    await expect(edit({ content: { title: 'Too late' } })).rejects.toEqual(refused('not-editable-now'))
  })
  atLength('it can be spread over time', async () => {
    const id = await broadcast({ spreadSeconds: 8 })
    const { totals } = await until(
      () => world.notification(id),
      (one) => one.totals.accepted > 0,
    )
    expect(totals.accepted).toBeLessThan(fleet * 0.8)
    const done = await over(id)
    adds(done)
    expect(done.totals.queued).toBe(0)
  })
})
