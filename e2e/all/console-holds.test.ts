import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import { Client } from '@zbell/contract'
import type { Browser, BrowserContextOptions, Page } from 'playwright-core'
import { violationsOn } from '../harness/axe.ts'
import { openBrowser } from '../harness/browser.ts'
import { signIn } from '../harness/console-page.ts'
import { Demo } from '../harness/demo.ts'
import { patience } from '../harness/programs.ts'
import { inScope } from '../harness/scope.ts'

const demo = new Demo()
let browser: Browser
let cookies: Parameters<Awaited<ReturnType<Browser['newContext']>>['addCookies']>[0]
let paths: readonly string[]
let client: Client
const params = { app: 'merrow-sound' }
const query = { environment: 'development' } as const
/** As long as a name may be. */
const longName = `crew-of-the-night-boat-${'x'.repeat(105)}`
const japanese = 'ラ'.repeat(60)

/** A page of its own, whose stream of changes ends with it: a browser has only six for one service. */
async function withPage<T>(options: BrowserContextOptions, look: (page: Page) => Promise<T>): Promise<T> {
  const context = await browser.newContext({ reducedMotion: 'reduce', ...options })
  await context.addCookies(cookies)
  const page = await context.newPage()
  page.setDefaultTimeout(patience(60_000))
  try {
    return await look(page)
  } finally {
    await context.close()
  }
}

/** When a page has what it shows. */
async function settled(page: Page, path: string): Promise<void> {
  await page.goto(demo.ready.service + path)
  await page.locator('main h1').waitFor()
  await page.getByRole('status', { name: 'Reading …' }).first().waitFor({ state: 'detached' })
  if (path.startsWith('/write')) await page.locator('.cm-editor').first().waitFor()
}

/** What runs past the right edge: nothing may, but what scrolls by itself. */
const tooWide = (page: Page) =>
  page.evaluate<string[]>(`[...document.querySelectorAll('body *')].filter((one) => {
    const box = one.getBoundingClientRect()
    if (box.width === 0 || box.right <= innerWidth + 1) return false
    for (let above = one.parentElement; above; above = above.parentElement)
      if (/auto|scroll|hidden/.test(getComputedStyle(above).overflowX)) return false
    return getComputedStyle(one).position !== 'fixed'
  }).slice(0, 3).map((one) => one.outerHTML.slice(0, 200))`)

beforeAll(async () => {
  await demo.start()
  client = new Client({ url: demo.ready.service, bearer: demo.ready.backendKey })
  const sent = await demo.zbell('send', '--to', 'everyone', '--title', 'Boarding is open', '--json')
  const { id } = JSON.parse(sent.out) as { id: string }
  await client.call('saveSegment', {
    params: { ...params, segment: 'commuters' },
    query,
    body: { rule: 'user.pass in ["weekly", "season"] && follows("route-4")' },
  })
  await client.call('saveSchedule', {
    params: { ...params, schedule: 'evening' },
    query,
    body: {
      when: { from: '2026-11-27T18:00', zone: 'Europe/Oslo', repeat: 'FREQ=DAILY' },
      notification: { to: { any: ['segment:commuters'] }, content: { title: 'Your boat tomorrow' } },
    },
  })
  browser = await openBrowser()
  const context = await browser.newContext()
  const page = await context.newPage()
  page.setDefaultTimeout(patience(60_000))
  await signIn(page, demo.ready)
  cookies = await context.cookies()
  await context.close()
  const tried = await client.call('tryWebhook', { params: { ...params, webhook: 'office' }, query, body: {} })
  const { items } = await client.call('listDevices', { params, query: { ...query, limit: 1 } })
  paths = [
    '/setup',
    '/app',
    '/app/new',
    '/credentials',
    '/gateways',
    '/gateways/android',
    '/devices',
    `/devices/${items[0]!.id}`,
    '/people',
    '/people/ada',
    '/topics',
    '/segments',
    '/segments/~new',
    '/segments/commuters',
    '/write',
    '/upcoming',
    '/upcoming?view=schedules',
    '/upcoming/evening',
    '/activity',
    `/activity/${id}`,
    `/activity/${id}/why/ada`,
    '/why',
    '/sources/sailings',
    '/triggers/sailing-late',
    '/webhooks',
    '/webhooks/office',
    `/webhooks/office/${tried.entry.no}`,
    '/new-webhook',
    '/bench',
    '/health',
  ]
})
afterAll(async () => {
  await browser?.close()
  await demo.close()
})

describe('every page', () => {
  test.each([
    ['light', 1_280],
    ['dark', 1_280],
    ['light', 1_920],
    ['light', 390],
    ['dark', 390],
    ...(inScope({ default: false, all: false, long: true }) ? [['dark', 1_920] as const] : []),
  ] as const)('has nothing that axe finds, and fits: %s, %p wide', async (theme, width) => {
    const height = width === 390 ? 844 : width === 1_920 ? 1_080 : 800
    const found = await withPage({ viewport: { width, height } }, async (page) => {
      await page.addInitScript(`localStorage.setItem('bell-theme', '${theme}')`)
      const all: string[] = []
      for (const path of paths) {
        await settled(page, path)
        // A wider screen shows axe what a narrower one does, and a phone by night what it and a desk by night do.
        const isNews = width < 1_920 && !(theme === 'dark' && width === 390)
        const violations = isNews ? await violationsOn(page) : []
        all.push(...violations.map(({ id, nodes }) => `${path}: ${id}: ${nodes.map(({ html }) => html).join(' ')}`))
        all.push(...(await tooWide(page)).map((one) => `${path} runs past the edge: ${one}`))
      }
      return all
    })
    expect(found).toEqual([])
  })

  test('is whole at a zoom of 200 %', async () => {
    const found = await withPage({ viewport: { width: 640, height: 400 }, deviceScaleFactor: 2 }, async (page) => {
      const all: string[] = []
      for (const path of paths) {
        await settled(page, path)
        all.push(...(await tooWide(page)).map((one) => `${path} runs past the edge: ${one}`))
      }
      return all
    })
    expect(found).toEqual([])
  })

  test('has edges around what can be pressed, and says what is chosen, where the system settles the colours', async () => {
    await withPage({ forcedColors: 'active', viewport: { width: 1_280, height: 800 } }, async (page) => {
      await settled(page, '/activity')
      const write = page.getByRole('link', { name: 'Write a notification' })
      expect(await write.evaluate((one) => getComputedStyle(one).borderTopStyle)).toBe('solid')
      await settled(page, '/write')
      const outlineOf = (name: string) =>
        page.getByRole('radio', { name }).evaluate((one) => getComputedStyle(one).outlineStyle)
      expect(await outlineOf('locked')).toBe('solid')
      expect(await outlineOf('opened')).toBe('none')
    })
  })
})

describe('a network that is slow or broken', () => {
  test('leaves the place of what is being read, and the title stays where it is', async () => {
    await withPage({ viewport: { width: 1_280, height: 800 } }, async (page) => {
      await settled(page, '/activity')
      let release = () => {}
      const held = new Promise<void>((go) => {
        release = go
      })
      await page.route(/\/devices\?/, async (route) => {
        await held
        await route.continue()
      })
      await page.getByRole('navigation').getByRole('link', { name: 'Devices' }).click()
      await page.getByRole('heading', { name: 'Devices', exact: true }).waitFor()
      await page.getByRole('status', { name: 'Reading …' }).waitFor()
      const before = await page.locator('main h1').boundingBox()
      release()
      await page.getByRole('row').nth(1).waitFor()
      expect(await page.locator('main h1').boundingBox()).toEqual(before)
    })
  })

  test('is said in words with a way on, and what was typed stays until it is back', async () => {
    await withPage({ viewport: { width: 1_280, height: 800 } }, async (page) => {
      await settled(page, '/app')
      await page.getByLabel('Its name').fill('Sailing board')
      await page.route(/\/v1\//, (route) => route.abort())
      await page.getByRole('button', { name: 'Make a key', exact: true }).click()
      await page.getByText('The service does not answer.').first().waitFor()
      expect(await page.getByLabel('Its name').inputValue()).toBe('Sailing board')
      await page.unroute(/\/v1\//)
      await page.getByRole('button', { name: 'Make a key', exact: true }).click()
      await page.getByText(/^zb-/).waitFor()
    })
  })
})

describe('much of everything', () => {
  beforeAll(async () => {
    const topics = Array.from({ length: 1_000 }, (_, i) => `pier-${String(i).padStart(4, '0')}`)
    for (let i = 0; i < topics.length; i += 50)
      await Promise.all(
        topics.slice(i, i + 50).map((topic) =>
          client.call('declareTopic', {
            params: { ...params, topic },
            query,
            body: { title: `رصيف ${topic} ${japanese}` },
          }),
        ),
      )
    // As many as an app may have.
    const { items } = await client.call('listAttributes', { params, query })
    const attributes = Array.from({ length: 200 - items.length }, (_, i) => [
      `of-season-${i}`,
      i % 2 === 0 ? `${japanese} ${i}` : i,
    ])
    for (let i = 0; i < attributes.length; i += 50)
      await client.call('changeUserAttributes', {
        params: { ...params, user: longName },
        query,
        body: Object.fromEntries(attributes.slice(i, i + 50)),
      })
  })

  test.each([1_280, 390])('fits on each page that shows it, %p wide', async (width) => {
    const found = await withPage({ viewport: { width, height: 800 } }, async (page) => {
      const all: string[] = []
      for (const path of ['/topics', '/people', `/people/${longName}`, `/write?to=user:${longName}`, '/devices']) {
        await settled(page, path)
        all.push(...(await tooWide(page)).map((one) => `${path} runs past the edge: ${one}`))
      }
      return all
    })
    expect(found).toEqual([])
  })

  test('a thousand topics are one list, of which only what is in sight is drawn, and one is found by its letters', async () => {
    await withPage({ viewport: { width: 1_280, height: 800 } }, async (page) => {
      await settled(page, '/topics')
      await page.getByText('pier-0000', { exact: true }).waitFor()
      expect(await page.locator('tbody tr').count()).toBeLessThan(100)
      await page.getByLabel('Search').fill('pier-0999')
      await page.getByText('pier-0999', { exact: true }).waitFor()
      expect(await page.locator('tbody tr').count()).toBe(1)
    })
  })

  test('two hundred attributes can each become a column, from a list that scrolls by itself', async () => {
    await withPage({ viewport: { width: 1_280, height: 800 } }, async (page) => {
      await settled(page, '/people')
      await page.getByRole('button', { name: 'Columns' }).click()
      const list = page.getByRole('dialog', { name: 'Columns' })
      await list.waitFor()
      const box = (await list.boundingBox())!
      expect(box.y + box.height).toBeLessThanOrEqual(800)
      await list.getByLabel('of-season-150').check()
      await page.getByRole('columnheader', { name: 'of-season-150' }).waitFor()
    })
  })
})
