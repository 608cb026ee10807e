import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import type { Device, Page as ListPage } from '@zbell/contract'
import type { Browser, BrowserContext, Page } from 'playwright-core'
import { openBrowser } from './harness/browser.ts'
import { Demo } from './harness/demo.ts'
import { until } from './harness/programs.ts'

const demo = new Demo()
let browser: Browser
let context: BrowserContext
let page: Page

beforeAll(async () => {
  await demo.start()
  browser = await openBrowser()
  context = await browser.newContext()
  await context.grantPermissions(['notifications'], { origin: demo.ready.passengers })
  page = await context.newPage()
  await page.goto(demo.ready.passengers)
}, 60_000)
afterAll(async () => {
  await browser.close()
  await demo.close()
})

const json = async <T>(...args: string[]): Promise<T> => JSON.parse((await demo.zbell(...args, '--json')).out) as T
type Sent = {
  id: string
  deliveries: { platform: string; user: string; state: string; timeline: { state: string }[] }[]
}
const shown = () =>
  page.evaluate(
    `navigator.serviceWorker.ready.then((worker) => worker.getNotifications()).then((all) => all.map(({ title, body, tag }) => ({ title, body, tag })))`,
  )

describe('the passengers’ page', () => {
  test('joins with a name, by a real subscription of its own', async () => {
    await page.getByLabel('I am').selectOption('signe')
    await page.getByRole('button', { name: /Ring me/ }).click()
    await page.getByText('This browser rings for Signe.').waitFor()
    await page.locator('#state[data-ready]').waitFor()
    const { items } = await json<ListPage<Device>>('device', 'list', '--user', 'signe')
    expect(items.map(({ platform, permission }) => [platform, permission])).toEqual([
      ['web', 'granted'],
      ['android', 'granted'],
    ])
  })

  test('the service worker decrypts, shows, and reports', async () => {
    const sent = await json<Sent>(
      'send',
      '--to',
      'user:signe',
      '--title',
      'Berth change',
      '--body',
      'Now from berth 3.',
      '--tag',
      'sailing-312',
      '--navigate',
      '/sailings/312',
    )
    expect(sent.deliveries.find(({ platform }) => platform === 'web')?.state).toBe('shown')
    expect(await shown()).toEqual([{ title: 'Berth change', body: 'Now from berth 3.', tag: 'sailing-312' }])
    await page.getByText('Now from berth 3.').waitFor()
  })

  test('a click opens the place it leads to, and the service hears of it', async () => {
    const worker = context.serviceWorkers()[0]!
    await worker.evaluate(
      `self.registration.getNotifications().then(([notification]) => self.dispatchEvent(new NotificationEvent('notificationclick', { notification })))`,
    )
    const { items } = await json<ListPage<{ id: string }>>('notification', 'list', '--limit', '1')
    await until(
      async () =>
        (await json<Sent>('notification', 'show', items[0]!.id)).deliveries.find(({ platform }) => platform === 'web')
          ?.state,
      (state) => state === 'opened',
    )
    await until(
      () => context.pages().map((one) => new URL(one.url()).pathname),
      (paths) => paths.includes('/sailings/312'),
    )
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
