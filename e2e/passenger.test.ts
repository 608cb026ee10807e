import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import type { Delivery, Device, Health, Page as ListPage } from '@zbell/contract'
import { Client as ServiceClient } from '@zbell/contract/client'
import type { Browser, BrowserContext, Page } from 'playwright-core'
import { openBrowser } from './harness/browser.ts'
import { Demo } from './harness/demo.ts'
import { patience, until } from './harness/programs.ts'

const demo = new Demo()
let browser: Browser
let context: BrowserContext
let page: Page

beforeAll(async () => {
  await demo.start()
  browser = await openBrowser()
  context = await browser.newContext()
  await context.grantPermissions(['notifications'], { origin: demo.ready.passengers })
  context.setDefaultTimeout(patience(60_000))
  page = await context.newPage()
  await page.goto(demo.ready.passengers)
})
afterAll(async () => {
  await browser.close()
  await demo.close()
})

const json = async <T>(...args: string[]): Promise<T> => JSON.parse((await demo.zbell(...args, '--json')).out) as T
type Sent = {
  id: string
  deliveries: (Pick<Delivery, 'platform' | 'state' | 'appState' | 'became' | 'action'> & {
    timeline: { state: string }[]
  })[]
}
const shown = () =>
  page.evaluate(
    `navigator.serviceWorker.ready.then((worker) => worker.getNotifications()).then((all) => all.map(({ title, body, tag }) => ({ title, body, tag })))`,
  )

describe('the passengers’ page', () => {
  test('joins with a name, by a real subscription of its own', async () => {
    await page.getByLabel('I am', { exact: true }).selectOption('signe')
    await page.getByRole('button', { name: /Ring me/ }).click()
    await page.getByText('This browser rings for Signe.').waitFor()
    await page.locator('#state[data-ready]').waitFor()
    const { items } = await json<ListPage<Device>>('device', 'list', '--user', 'signe')
    expect(items.map(({ platform, permission }) => [platform, permission])).toEqual([
      ['web', 'granted'],
      ['android', 'granted'],
    ])
  })

  const webDelivery = (sent: Sent) => sent.deliveries.find(({ platform }) => platform === 'web')
  const send = (...more: string[]) => json<Sent>('send', '--to', 'user:signe', ...more)

  test('a kind of notification that they mute does not ring here, and neither does anything in their quiet hours', async () => {
    const offers = page.locator('[data-channel=offers]')
    await offers.uncheck()
    const codeOf = (sent: Sent) => webDelivery(sent)?.state
    await until(
      async () => codeOf(await send('--title', 'Two for one', '--channel', 'offers')),
      (state) => state === 'skipped',
    )
    await offers.check()
    await page.getByLabel('Nothing between ten and seven').check()
    const { quietHours } = await until(
      () => json<{ quietHours: object[] }>('quiet-hours', 'list', '--user', 'signe'),
      (one) => one.quietHours.length === 1,
    )
    expect(quietHours).toEqual([{ from: '22:00', to: '07:00', then: 'wait' }])
    await page.getByLabel('Nothing between ten and seven').uncheck()
    await until(
      () => json<{ quietHours: object[] }>('quiet-hours', 'list', '--user', 'signe'),
      (one) => one.quietHours.length === 0,
    )
  })

  test('while it is in front, its own line takes the place of the notification, and the service hears of that', async () => {
    const sent = await send('--title', 'Boarding is open', '--body', 'Berth 1.')
    expect(webDelivery(sent)).toMatchObject({ state: 'shown', appState: 'front', became: 'replaced' })
    expect(await page.locator('#toast').textContent()).toBe('Boarding is open: Berth 1.')
    expect(await shown()).toEqual([])
    await page.getByText('What rang: 1 new').waitFor()
  })

  test('what the app drops is received and not shown', async () => {
    await page.getByLabel('While I am on this page').selectOption('drop')
    const sent = await send('--title', 'Nobody sees this', '--no-watch')
    const read = () => json<Sent>('notification', 'show', sent.id)
    const became = await until(read, (one) => webDelivery(one)?.state === 'received')
    expect(webDelivery(became)).toMatchObject({ appState: 'front', became: 'dropped' })
    expect(await page.getByText('Nobody sees this').count()).toBe(0)
  })

  test('the service worker decrypts, shows, and reports', async () => {
    await page.getByLabel('While I am on this page').selectOption('show')
    const place = ['--tag', 'sailing-312', '--navigate', '/sailings/312', '--data', '{"sailing":312}']
    const sent = await send('--title', 'Berth change', '--body', 'Now from berth 3.', ...place)
    expect(webDelivery(sent)).toMatchObject({ state: 'shown', became: 'shown' })
    expect(await shown()).toEqual([{ title: 'Berth change', body: 'Now from berth 3.', tag: 'sailing-312' }])
    await page.getByText('Now from berth 3.').waitFor()
  })

  test('a click opens the place it leads to, tells the app how and with what, and marks it as read', async () => {
    const worker = context.serviceWorkers()[0]!
    await worker.evaluate(
      `self.registration.getNotifications().then(([notification]) => self.dispatchEvent(new NotificationEvent('notificationclick', { notification, action: 'ticket' })))`,
    )
    const { items } = await json<ListPage<{ id: string }>>('notification', 'list', '--limit', '1')
    const opened = await until(
      () => json<Sent>('notification', 'show', items[0]!.id),
      (one) => webDelivery(one)?.state === 'opened',
    )
    expect(webDelivery(opened)).toMatchObject({ action: 'ticket' })
    await until(
      () => context.pages().map((one) => new URL(one.url()).pathname),
      (paths) => paths.includes('/sailings/312'),
    )
    const there = context.pages().find((one) => one.url().endsWith('/sailings/312'))!
    await there.getByText('Opened (already-in-front, ticket): sailing 312').waitFor()
    await there.getByText('What rang: 1 new').waitFor()
    await there.getByRole('button', { name: 'I have read them' }).click()
    await there.getByRole('heading', { name: 'What rang', exact: true }).waitFor()
  })

  test('follows a route, and keeps quiet when asked to', async () => {
    await page.getByLabel('Follow', { exact: true }).selectOption('route-5')
    await page.getByRole('button', { name: 'Follow', exact: true }).click()
    await page.getByText('You follow: route-3, route-4, route-5, weather').waitFor()
    const rung = await json<Sent>('send', '--to', 'topic:route-5', '--title', 'Route 5')
    expect(rung.deliveries.map(({ platform }) => platform)).toEqual(['web'])
    await page.getByLabel('Keep quiet for now').check()
    const muted = await until(
      () => json<ListPage<Device>>('device', 'list', '--user', 'signe', '--platform', 'web'),
      ({ items }) => items[0]?.muted === true,
    )
    expect(muted.items[0]?.permission).toBe('granted')
    const skipped = await send('--title', 'Not now')
    expect(webDelivery(skipped)?.state).toBe('skipped')
    await page.getByLabel('Keep quiet for now').uncheck()
    await until(
      () => json<ListPage<Device>>('device', 'list', '--user', 'signe', '--platform', 'web'),
      ({ items }) => items[0]?.muted === false,
    )
  })

  test('rings a plan of its own by itself, and waits for an app that does not answer no longer than 3 s', async () => {
    await page.getByRole('button', { name: 'Remind me' }).click()
    await until(shown, (all) => JSON.stringify(all).includes('Time to walk to the pier'))
    await page.getByText('This rang without a network.').waitFor()
  })

  test('a second copy of the same message is dropped', async () => {
    const worker = context.serviceWorkers()[0]!
    const message = JSON.stringify({
      web_push: 8030,
      notification: { title: 'Twice', navigate: demo.ready.passengers },
      zephyr: { notification: '018bcfe5-6800-7fff-bfff-000000000001', mode: 'show' },
    })
    for (let i = 0; i < 2; i++)
      await worker.evaluate(`void self.dispatchEvent(new PushEvent('push', { data: ${JSON.stringify(message)} }))`)
    await until(shown, (all) => JSON.stringify(all).includes('Twice'))
    await new Promise((done) => setTimeout(done, 300))
    expect((JSON.stringify(await shown()).match(/Twice/g) ?? []).length).toBe(1)
  })

  test('a push through the browser’s own line is understood, and so is another sender’s declarative message', async () => {
    const devtools = await context.newCDPSession(page)
    // Each running version as the browser tells of it; a message to one that is not active yet would be dropped.
    const active: string[] = []
    devtools.on('ServiceWorker.workerVersionUpdated', ({ versions }) => {
      active.push(...versions.flatMap((one) => (one.status === 'activated' ? [one.registrationId] : [])))
    })
    await devtools.send('ServiceWorker.enable')
    await until(
      () => active.length,
      (count) => count > 0,
    )
    const data = JSON.stringify({
      web_push: 8030,
      notification: { title: 'From elsewhere', navigate: demo.ready.passengers, lang: 'ar', dir: 'rtl' },
    })
    // The command is answered before the worker has the event, and says nothing when the browser lets it fall.
    await until(
      async () => {
        const registrationId = active.at(-1)!
        await devtools.send('ServiceWorker.deliverPushMessage', { origin: demo.ready.passengers, registrationId, data })
        await new Promise((done) => setTimeout(done, 2_000))
        return shown()
      },
      (all) => JSON.stringify(all).includes('From elsewhere'),
    )
  })

  test('a browser that comes back is the same device', async () => {
    await page.reload()
    await page.locator('#state[data-ready]').waitFor()
    const { items } = await json<ListPage<Device>>('device', 'list', '--user', 'signe', '--platform', 'web')
    expect(items).toHaveLength(1)
    const sent = await json<Sent>('send', '--to', 'user:signe', '--title', 'Still here')
    expect(sent.deliveries.find(({ platform }) => platform === 'web')?.state).toBe('shown')
  })

  test('signing out leaves nothing to the next person: no rings, no list', async () => {
    await page.getByRole('button', { name: 'Sign out' }).click()
    await page.getByText('this browser rings for nobody').waitFor()
    expect(await page.locator('#rang li').allTextContents()).toEqual(['Nothing yet.'])
    expect(await shown()).toEqual([])
    const { items } = await json<ListPage<Device>>('device', 'list', '--user', 'signe', '--platform', 'web')
    expect(items).toEqual([])
    const sent = await send('--title', 'For Signe alone')
    expect(sent.deliveries.map(({ platform }) => platform)).toEqual(['android'])
  })

  test('a service that is away hears later what was said meanwhile', async () => {
    await page.getByLabel('I am', { exact: true }).selectOption('iria')
    const calls = `${demo.ready.service}/v1/**`
    await page.route(calls, (route) => route.abort('connectionrefused'))
    await page.getByRole('button', { name: /Ring me/ }).click()
    await page.getByText('This browser rings for Iria.').waitFor()
    await page.unroute(calls)
    const { items } = await until(
      () => json<ListPage<Device>>('device', 'list', '--user', 'iria', '--platform', 'web'),
      (one) => one.items.length === 1,
    )
    expect(items[0]?.permission).toBe('granted')
  })

  test('where proofs are wanted the page brings one whenever it is needed, also when the first ones fail', async () => {
    await page.getByRole('button', { name: 'Sign out' }).click()
    await page.getByText('this browser rings for nobody').waitFor()
    await demo.zbell('settings', 'change', '--require-proof', 'yes')
    const devicesOf = (user: string) => json<ListPage<Device>>('device', 'list', '--user', user, '--platform', 'web')
    let asked = 0
    await page.route('**/proof', (route) => (++asked === 1 ? route.fulfill({ status: 503 }) : route.continue()))
    await page.getByLabel('I am', { exact: true }).selectOption('iria')
    await page.getByRole('button', { name: /Ring me/ }).click()
    // The device is registered all the same, and becomes Iria’s with the next proof.
    await until(
      () => devicesOf('iria'),
      ({ items }) => items.length === 1,
    )
    expect(asked).toBe(2)
    const { userRefusals } = await json<Health>('health')
    expect(userRefusals.map(({ code }) => code)).toEqual(['proof-missing'])
    // Whoever is known already needs none.
    await page.reload()
    await page.locator('#state[data-ready]').waitFor()
    expect([asked, (await devicesOf('iria')).items.length]).toEqual([2, 1])
    await page.unroute('**/proof')
    await demo.zbell('settings', 'change', '--require-proof', 'no')
  })

  test('with no page open, the worker shows and reports by itself', async () => {
    await page.getByLabel('I am', { exact: true }).selectOption('haru')
    await page.getByRole('button', { name: /Ring me/ }).click()
    await page.getByText('This browser rings for Haru.').waitFor()
    // The page names whoever was chosen; the service knows of it only when the page is ready.
    await page.locator('#state[data-ready]').waitFor()
    const worker = context.serviceWorkers()[0]!
    for (const one of context.pages()) await one.close()
    const { id } = await json<{ id: string }>('send', '--to', 'user:haru', '--title', 'Far away', '--no-watch')
    // What the browser maker's line would hand over; the page that stands in for that line is closed.
    const message = JSON.stringify({
      web_push: 8030,
      notification: { title: 'Far away', navigate: demo.ready.passengers },
      zephyr: { notification: id, mode: 'show' },
    })
    await worker.evaluate(`void self.dispatchEvent(new PushEvent('push', { data: ${JSON.stringify(message)} }))`)
    const sent = await until(
      () => json<Sent>('notification', 'show', id),
      (one) => webDelivery(one)?.state === 'shown',
    )
    expect(webDelivery(sent)).toMatchObject({ appState: 'closed', became: 'shown' })
    page = await context.newPage()
    await page.goto(demo.ready.passengers)
    await page.getByText('Far away').waitFor()
  })

  test('whoever said no is told so, and is not registered', async () => {
    const refusing = await browser.newContext()
    const other = await refusing.newPage()
    await other.addInitScript(`Object.defineProperty(Notification, 'permission', { get: () => 'denied' })`)
    await other.goto(demo.ready.passengers)
    await other.getByText('You said no.').waitFor()
    expect(await other.getByRole('button', { name: /Ring me/ }).count()).toBe(0)
    await refusing.close()
  })
})

describe('the ferry company', () => {
  test('is told by its webhook that a phone is gone, and says so on its page', async () => {
    const office = await (await browser.newContext()).newPage()
    office.setDefaultTimeout(patience(60_000))
    await office.goto(demo.ready.passengers)
    const client = new ServiceClient({ url: demo.ready.service, bearer: demo.ready.backendKey })
    const haru = demo.ready.handsets.find(({ user }) => user === 'haru')!
    await client.call('actOnHandset', { params: { app: demo.ready.app, id: haru.id }, body: { do: 'remove' } })
    await client.call('sendNotification', {
      params: { app: demo.ready.app },
      body: { to: { any: ['user:haru'] }, content: { title: 'Are you there?' }, urgency: 'high' },
    })
    await office.getByText('Haru’s phone is gone: the gateway knows it no more').waitFor()
    await office.close()
  })

  test('rings for the weather station’s warnings, posted in its own words', async () => {
    expect((await fetch(`${demo.ready.passengers}/weather`, { method: 'POST' })).status).toBe(202)
    await until(
      () => demo.zbell('handset', 'show', 'ada-ios'),
      ({ out }) => out.includes('Strong wind at Farrow Isle'),
    )
  })
})
