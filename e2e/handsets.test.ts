import { mkdtempSync, rmSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import type { Delivery, Device, Handset, HandsetAct, HandsetChange } from '@zbell/contract'
import { ProblemError } from '@zbell/contract/client'
import { until, zbell } from './harness/programs.ts'
import { app, params, World } from './harness/world.ts'

let world: World
beforeAll(async () => {
  world = await World.open()
})
afterAll(() => world.close())

let made = 0
async function handset(more: object = {}): Promise<{ id: string; user: string }> {
  const [id, user] = [`set-${++made}`, `of-set-${made}`]
  await world.backend.call('makeHandset', { params, body: { platform: 'ios', id, user, ...more } })
  return { id, user }
}
const read = (id: string): Promise<Handset> => world.backend.call('readHandset', { params: { app, id } })
const change = (id: string, body: HandsetChange): Promise<Handset> =>
  world.backend.call('changeHandset', { params: { app, id }, body: body as never })
const act = (id: string, body: HandsetAct): Promise<Handset> =>
  world.backend.call('actOnHandset', { params: { app, id }, body: body as never })
const codeOf = (call: Promise<unknown>) =>
  call.then(
    () => 'done',
    (error: unknown) => (error instanceof ProblemError ? error.problem.code : Promise.reject(error)),
  )
/** Rings and waits for what became of the one device. */
async function ring(
  user: string,
  state: Delivery['state'],
  more: { content?: object; mode?: string; urgency?: string } = {},
) {
  const id = await world.send({ to: { any: [`user:${user}`] }, content: { title: 'Storm tonight' }, ...more })
  const find = async () => (await world.backend.call('listDeliveries', { params: { app, id } })).items[0]
  return (await until(find, (one) => one?.state === state))!
}
const deviceOf = async (user: string): Promise<Device> =>
  (await world.backend.call('listDevices', { params, query: { user } })).items[0]!

describe('a handset is asked once', () => {
  test('a prompt is answered, and the service knows it; a second one never shows', async () => {
    const { id, user } = await handset({ permission: 'prompt' })
    expect((await ring(user, 'skipped')).reason?.code).toBe('permission-not-asked')
    await act(id, { do: 'ask', answer: 'denied' })
    expect((await ring(user, 'skipped')).reason?.code).toBe('permission-denied')
    expect(await codeOf(act(id, { do: 'ask', answer: 'granted' }))).toBe('not-possible-now')
    // Only the system's settings change it now, and the kit tells the service by itself.
    await change(id, { permission: 'granted' })
    expect((await deviceOf(user)).permission).toBe('granted')
    expect((await ring(user, 'shown')).became).toBe('shown')
  })
})

describe('where the app is', () => {
  test.each([
    ['closed', {}, 'shown', 'shown'],
    ['behind', { appState: 'behind' }, 'shown', 'shown'],
    ['front, and it shows', { appState: 'front' }, 'shown', 'shown'],
    ['front, and it replaces', { appState: 'front', inFront: 'replace' }, 'shown', 'replaced'],
    ['front, and it drops', { appState: 'front', inFront: 'drop' }, 'received', 'dropped'],
    ['closed, and nobody wants to be disturbed', { doNotDisturb: true }, 'shown', 'silenced'],
  ] as const)('%s', async (_name, mood, state, became) => {
    const { id, user } = await handset()
    await change(id, mood)
    const delivery = await ring(user, state)
    expect([delivery.appState, delivery.became]).toEqual(['appState' in mood ? mood.appState : 'closed', became])
    const now = await read(id)
    expect(now.lockScreen.length).toBe(became === 'shown' || became === 'silenced' ? 1 : 0)
    expect(now.toast).toBe(became === 'replaced' ? 'Storm tonight' : null)
    expect(now.log[0]?.what).toContain('“Storm tonight” arrived')
  })

  test('locking puts it behind, a tap brings it in front and tells how it was found', async () => {
    const { id, user } = await handset()
    await change(id, { appState: 'front' })
    expect(await change(id, { locked: true })).toMatchObject({ locked: true, appState: 'behind' })
    await ring(user, 'shown', { content: { title: 'Boarding', navigate: '/sailings/204' } })
    const opened = await act(id, { do: 'tap' })
    expect(opened).toMatchObject({ appState: 'front', locked: false, opened: '/sailings/204', badge: 0 })
    expect(opened.log[0]?.what).toBe('“Boarding” was opened; the app was brought-back')
  })

  test('putting away is reported', async () => {
    const { id, user } = await handset()
    await ring(user, 'shown')
    await act(id, { do: 'dismiss' })
    const { items } = await world.backend.call('listNotifications', { params, query: { limit: 1 } })
    await until(
      () => world.notification(items[0]!.id),
      ({ totals }) => totals.dismissed === 1,
    )
    expect(await codeOf(act(id, { do: 'dismiss' }))).toBe('nothing-to-tap')
  })

  test('what is shown is taken back by a wake, by its tag or its id', async () => {
    const { id, user } = await handset({ watch: true })
    for (const tag of ['sailing-1', 'sailing-2']) await ring(user, 'shown', { content: { title: tag, tag } })
    await ring(user, 'received', { mode: 'wake', content: { commands: { withdraw: { tag: 'sailing-1' } } } })
    const now = await read(id)
    expect([now.lockScreen.map(({ tag }) => tag), now.watch?.map(({ tag }) => tag)]).toEqual([
      ['sailing-2'],
      ['sailing-2'],
    ])
    const withdraw = { id: now.lockScreen[0]!.notification }
    await ring(user, 'received', { mode: 'wake', content: { commands: { withdraw } } })
    expect((await read(id)).lockScreen).toEqual([])
  })

  test('a watch mirrors what comes while the phone is locked', async () => {
    const { id, user } = await handset({ watch: true })
    await ring(user, 'shown', { content: { title: 'On the wrist' } })
    await change(id, { appState: 'front' })
    await ring(user, 'shown', { content: { title: 'In the hand' } })
    const now = await read(id)
    expect(now.watch?.map(({ title }) => title)).toEqual(['On the wrist'])
    expect(now.lockScreen.map(({ title }) => title)).toEqual(['In the hand', 'On the wrist'])
  })
})

describe('the world around it', () => {
  test('without a network nothing arrives and nothing is told; both come when it is back', async () => {
    const { id, user } = await handset()
    await change(id, { online: false })
    await ring(user, 'accepted')
    await change(id, { muted: true })
    expect((await deviceOf(user)).muted).toBe(false)
    expect((await read(id)).lockScreen).toEqual([])
    await change(id, { online: true })
    await until(
      () => read(id),
      ({ lockScreen }) => lockScreen.length === 1,
    )
    expect((await deviceOf(user)).muted).toBe(true)
  })

  test('low power puts off what is not urgent', async () => {
    const { id, user } = await handset()
    await change(id, { lowPower: true })
    await ring(user, 'accepted')
    expect((await read(id)).log[0]?.what).toContain('low power puts off')
    expect((await ring(user, 'shown', { urgency: 'high' })).became).toBe('shown')
  })

  test('its clock may be wrong; the progress of a delivery still makes sense', async () => {
    const { id, user } = await handset()
    await change(id, { clockOffsetSeconds: -86_400 })
    const { timeline } = await ring(user, 'shown')
    const times = timeline.map(({ at }) => at)
    expect([...times].sort()).toEqual(times)
    expect(Date.parse((await read(id)).clock)).toBeLessThan(Date.now() - 80_000_000)
  })

  test('removing the app retires its device at the next ring; installing it makes another', async () => {
    const { id, user } = await handset()
    const before = await deviceOf(user)
    await act(id, { do: 'remove' })
    expect((await ring(user, 'refused')).reason?.code).toBe('token-gone')
    expect((await world.backend.call('readDevice', { params: { app, id: before.id } })).retiredReason).toBe(
      'token-gone',
    )
    const installed = await act(id, { do: 'install' })
    expect(installed).toMatchObject({ permission: 'prompt', user: null, installed: true })
    expect(installed.device).not.toBe(before.id)
    expect(await codeOf(act(id, { do: 'install' }))).toBe('not-possible-now')
  })

  test('a restart loses nothing that the kit keeps', async () => {
    const { id, user } = await handset()
    await act(id, { do: 'join', topic: 'route-3' })
    await ring(user, 'shown')
    const after = await act(id, { do: 'reboot' })
    expect(after).toMatchObject({ appState: 'closed', locked: true, topics: ['route-3'], badge: 1 })
    await ring(user, 'shown', { content: { title: 'After the restart' } })
    expect((await read(id)).device).toBe((await deviceOf(user)).id)
  })
})

describe('a plan that the service handed over', () => {
  test('rings without a network, at the local time, and again after a restart', async () => {
    const { id, user } = await handset({ timeZone: 'Europe/Oslo' })
    const at = (seconds: number) => new Date(Date.now() + seconds * 1_000)
    const local = new Intl.DateTimeFormat('sv-SE', { timeZone: 'Europe/Oslo', dateStyle: 'short', timeStyle: 'medium' })
      .format(at(3))
      .replace(' ', 'T')
    const plans = [
      { name: 'reminder', when: { local }, content: { title: 'Your sailing leaves soon', tag: 'reminder' } },
      {
        name: 'pier',
        when: { place: { longitude: 5.32, latitude: 60.39 }, metres: 300, on: 'enter' },
        content: { title: 'You are at the pier' },
      },
    ]
    await ring(user, 'received', { mode: 'wake', content: { commands: { plans } } })
    await change(id, { online: false })
    await act(id, { do: 'reboot' })
    expect((await read(id)).plans.map(({ name }) => name)).toEqual(['reminder', 'pier'])
    await until(
      () => read(id),
      ({ lockScreen }) => lockScreen[0]?.title === 'Your sailing leaves soon',
    )
    await change(id, { place: { longitude: 5.4, latitude: 60.39 } })
    const there = await change(id, { place: { longitude: 5.3201, latitude: 60.39 } })
    expect(there.lockScreen[0]?.title).toBe('You are at the pier')
    expect(there.log.map(({ what }) => what)).toContain('the plan pier rings')
    await change(id, { user: null })
    expect((await read(id)).plans).toEqual([])
  })
})

describe('zbell handset', () => {
  const cli = (...args: string[]) => zbell(args, { ZBELL_URL: world.url, ZBELL_KEY: world.backendKey, ZBELL_APP: app })

  test('switches, draws and logs', async () => {
    const { id, user } = await handset({ watch: true })
    const set = await cli(
      'handset',
      'set',
      id,
      '--app-state',
      'front',
      '--in-front',
      'replace',
      '--do-not-disturb',
      'yes',
    )
    expect(set).toMatchObject({ code: 0, err: '' })
    expect(set.out).toContain('do not disturb')
    const sent = await cli('send', '--to', `user:${user}`, '--title', 'Berth change')
    expect(sent.out).toMatch(/received {2}app front, replaced by the app/)
    const drawn = (await cli('handset', 'show', id)).out
    expect(drawn).toContain('▸ Berth change')
    expect(drawn).toContain('its watch')
    expect((await cli('handset', 'log', id)).out).toContain(
      '“Berth change” arrived, app front: the app showed something of its own',
    )
    expect(await cli('handset', 'set', id)).toMatchObject({
      code: 2,
      err: expect.stringContaining('nothing to change'),
    })
    expect(await cli('handset', 'set', id, '--online', 'maybe')).toMatchObject({ code: 2 })
    expect((await cli('handset', 'join', id, 'route-6')).out).toContain('follows route-6')
    expect((await cli('topic', 'list')).out).toMatch(/route-6 .*open +0 +1/)
    expect((await cli('handset', 'discard', id)).out).toBe(`${id} is gone.\n`)
    expect((await cli('handset', 'show', id)).code).toBe(5)
  })

  test('rings a file straight on a handset, and names what is wrong with one', async () => {
    const { id } = await handset()
    const dir = mkdtempSync(join(tmpdir(), 'bell-ring-'))
    const file = join(dir, 'storm.yaml')
    writeFileSync(file, 'title: Storm tonight\nbody: Stay at home.\n')
    expect((await cli('handset', 'ring', id, file)).out).toContain('│ Storm tonight')
    writeFileSync(file, 'content: { title: "", body: x }\n')
    const bad = await cli('handset', 'ring', id, file)
    expect([bad.code, bad.out]).toEqual([6, ''])
    writeFileSync(file, 'title: [\n')
    expect(await cli('handset', 'ring', id, file)).toMatchObject({
      code: 2,
      err: expect.stringContaining('neither YAML nor JSON'),
    })
    rmSync(dir, { recursive: true })
  })

  test('people and topics are listed and changed', async () => {
    expect((await cli('user', 'set', 'ada', 'homePier=Lantern Quay', 'trips=12', 'bicycle=true')).out).toBe(
      'bicycle=true  homePier=Lantern Quay  trips=12\n',
    )
    expect((await cli('user', 'set', 'ada', 'trips=')).out).not.toContain('trips')
    expect(await cli('topic', 'join', 'route-5', '--user', 'ada', 'nobody')).toMatchObject({
      out: '1 joined route-5.\n',
      err: 'Not here: user:nobody\n',
    })
    expect((await cli('user', 'list', '--topic', 'route-5')).out).toMatch(/ada +0 +route-5 +bicycle=true/)
    expect((await cli('user', 'show', 'ada')).out).toMatch(/homePier +Lantern Quay/)
    expect((await cli('user', 'show', 'nobody-at-all')).code).toBe(5)
  })
})
