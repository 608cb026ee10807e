import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import type { Handset, Notification } from '@zbell/contract'
import { Demo } from './harness/demo.ts'
import { processesOf } from './harness/processes.ts'
import { until } from './harness/programs.ts'
import { atLength } from './harness/scope.ts'

const demo = new Demo()
beforeAll(async () => {
  await demo.start()
})
afterAll(() => demo.close())

type Sent = Notification & { deliveries: { user: string; platform: string; state: string }[] }
const json = async <T>(...args: string[]): Promise<T> => JSON.parse((await demo.zbell(...args, '--json')).out) as T

describe('the first ring', () => {
  test('the demo says where everything is, in one line', () => {
    const { ready } = demo
    expect(ready).toMatchObject({ app: 'merrow-sound', environment: 'development' })
    expect(ready.handsets.map(({ id, platform }) => [id, platform])).toEqual([
      ['ada-ios', 'ios'],
      ['ada-browser', 'web'],
      ['haru-ios', 'ios'],
      ['signe-android', 'android'],
      ['nour-android', 'android'],
    ])
  })

  test('sending tells live what becomes of each device, until all are done', async () => {
    const { code, out, err } = await demo.zbell(
      'send',
      '--to',
      'user:ada',
      '--title',
      'Kittiwake is late',
      '--body',
      'Berth 2',
      '--navigate',
      '/sailings/101',
    )
    expect([code, err]).toEqual([0, ''])
    for (const platform of ['ios', 'web']) {
      for (const state of ['queued', 'accepted', 'received', 'shown'])
        expect(out).toMatch(new RegExp(`${platform} +ada .* ${state}`))
    }
    expect(out).toMatch(/2 devices: 2 shown\.\n$/)
  })

  test('the notification is on the lock screen, and tapping it opens it', async () => {
    expect((await demo.zbell('handset', 'show', 'ada-ios')).out).toContain('│ Kittiwake is late')
    const { items } = await json<{ items: Notification[] }>('notification', 'list', '--limit', '1')
    const tapped = await json<Handset>('handset', 'tap', 'ada-ios')
    expect(tapped).toMatchObject({ locked: false, appState: 'front', opened: '/sailings/101', lockScreen: [] })
    const shown = await json<Sent>('notification', 'show', items[0]!.id)
    expect(shown.deliveries.map(({ platform, state }) => [platform, state])).toEqual([
      ['ios', 'opened'],
      ['web', 'shown'],
    ])
    expect((await demo.zbell('handset', 'tap', 'ada-ios')).code).toBe(6)
  })

  test('whoever said no is skipped, and the reason says what to do', async () => {
    const { code, out } = await demo.zbell('send', '--to', 'user:nour', '--title', 'Storm')
    expect(code).toBe(8)
    expect(out).toContain('1 device: 1 skipped.')
    expect(out).toContain('1 × The user does not allow notifications on this device.')
  })

  test('a wake shows nothing and is received', async () => {
    const sent = await json<Sent>('send', '--to', 'user:signe', '--mode', 'wake', '--data', '{"refresh":"timetable"}')
    expect(sent.deliveries.map(({ state }) => state)).toEqual(['received'])
    const { lockScreen } = await json<Handset>('handset', 'show', 'signe-android')
    expect(lockScreen.map(({ notification }) => notification)).not.toContain(sent.id)
  })

  test('a tag takes the place of the one before on the lock screen', async () => {
    for (const title of ['Berth 2', 'Berth 3'])
      await demo.zbell('send', '--to', 'user:haru', '--title', title, '--tag', 'sailing-101')
    const { lockScreen } = await json<Handset>('handset', 'show', 'haru-ios')
    expect(lockScreen.filter(({ tag }) => tag === 'sailing-101').map(({ title }) => title)).toEqual(['Berth 3'])
  })

  test('refusals are one sentence each, with an exit code by kind', async () => {
    expect(await demo.zbell('send', '--to', 'user:bob', '--title', 'T')).toMatchObject({
      code: 6,
      err: expect.stringMatching(
        /^zbell: \/to\/any\/0 is not a user of this app|^zbell: user:bob is not a user of this app in development; /,
      ),
    })
    expect(await demo.zbell('device', 'show', 'nothing')).toMatchObject({ code: 5 })
    expect(await demo.zbell('device', 'list', '--url', demo.ready.service, '--key', 'zb-backend-wrong')).toMatchObject({
      code: 4,
      err: expect.stringContaining('not one of ours'),
    })
  })

  test('the configuration says where each value came from, and no secret', async () => {
    const printed = await json<{ name: string; value: unknown; source: string }[]>(
      'config',
      '--config',
      `${demo.data}/service.yaml`,
    )
    expect(printed.find(({ name }) => name === 'handsets.key')).toMatchObject({
      value: '(set, not shown)',
      source: `file ${demo.data}/service.yaml`,
    })
    expect(printed.find(({ name }) => name === 'engine.blocks')).toMatchObject({ value: 3, source: 'default' })
  })

  atLength('Ctrl-C stops everything, and the next start finds everything as it was', async () => {
    const before = await json<{ items: Notification[] }>('notification', 'list', '--limit', '200')
    const screen = (await json<Handset>('handset', 'show', 'haru-ios')).lockScreen
    expect(await demo.stop()).toBe(0)
    expect(processesOf(demo.data)).toEqual([])
    const { service, backendKey, signInLink } = demo.ready
    await demo.start()
    expect(demo.ready).toMatchObject({ service, backendKey })
    expect(demo.ready.signInLink).not.toBe(signInLink)
    expect(await json('notification', 'list', '--limit', '200')).toEqual(before)
    expect((await json<Handset>('handset', 'show', 'haru-ios')).lockScreen).toEqual(screen)
    const sent = await json<Sent>('send', '--to', 'everyone', '--title', 'Good morning')
    expect(sent.totals).toMatchObject({ expanded: 5, shown: 4, skipped: 1 })
    await until(
      () => json<Handset>('handset', 'show', 'ada-browser'),
      ({ lockScreen }) => lockScreen[0]?.title === 'Good morning',
    )
  })
})
