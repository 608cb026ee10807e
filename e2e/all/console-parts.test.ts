import { readdirSync, readFileSync } from 'node:fs'
import { fileURLToPath } from 'node:url'
import { gzipSync } from 'node:zlib'
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import type { Browser, Page } from 'playwright-core'
import { openBrowser } from '../harness/browser.ts'
import { beginsWith, choose, referencesIn, sayTo, signIn, textIn } from '../harness/console-page.ts'
import { Company } from '../harness/demo.ts'
import { patience, until } from '../harness/programs.ts'

const demo = new Company()
let browser: Browser
let page: Page
const refused: string[] = []

const open = async (viewport: { width: number; height: number }): Promise<Page> => {
  const context = await browser.newContext({ viewport, reducedMotion: 'reduce' })
  await beginsWith(context, demo.ready)
  const one = await context.newPage()
  one.setDefaultTimeout(patience(60_000))
  one.on('console', (message) => {
    if (/Content Security Policy/.test(message.text())) refused.push(message.text())
  })
  await signIn(one, demo.ready)
  return one
}

beforeAll(async () => {
  await demo.open()
  browser = await openBrowser()
  page = await open({ width: 1280, height: 800 })
})
afterAll(async () => {
  await browser.close()
})

const field = (name: string) => page.getByLabel(name, { exact: true })

describe('the palette', () => {
  const palette = () => page.getByRole('dialog', { name: 'Find or do' })

  test('finds a person by the beginning of their name, and leads there', async () => {
    await page.keyboard.press('Control+k')
    await palette().waitFor()
    await page.keyboard.type('sig')
    await palette()
      .getByRole('option', { name: /signe.*person/ })
      .waitFor()
    await page.keyboard.press('Enter')
    await page.getByRole('heading', { name: 'signe' }).waitFor()
  })

  test('learns what is being looked at while it is open', async () => {
    let release = () => {}
    const held = new Promise<void>((resolve) => {
      release = resolve
    })
    await page.route(/\/users\/ada\?/, async (route) => {
      await held
      await route.continue()
    })
    await page.goto(`${demo.ready.console}people/ada`)
    await page.getByRole('heading', { name: 'ada' }).waitFor()
    await page.keyboard.press('Control+k')
    const ada = palette().getByRole('option', { name: /ada.*person/ })
    await palette()
      .getByRole('option', { name: /signe.*person/ })
      .waitFor()
    expect(await ada.count()).toBe(0)
    release()
    await ada.waitFor()
    await page.keyboard.press('Escape')
    await page.unroute(/\/users\/ada\?/)
  })

  test('remembers what was looked at, knows the pages, and does things', async () => {
    await page.keyboard.press('Control+k')
    await palette()
      .getByRole('option', { name: /signe.*person/ })
      .waitFor()
    await page.keyboard.type('healt')
    await palette()
      .getByRole('option', { name: /Health/, selected: true })
      .waitFor()
    await page.keyboard.press('Enter')
    await page.getByRole('heading', { name: 'Health', exact: true }).waitFor()
    await page.keyboard.press('Control+k')
    await page.keyboard.type('compact')
    await palette()
      .getByRole('option', { name: /compact/, selected: true })
      .waitFor()
    await page.keyboard.press('Enter')
    await until(
      () => page.evaluate('document.documentElement.dataset.density'),
      (now) => now === 'compact',
    )
    await page.keyboard.press('Control+k')
    await page.keyboard.press('Escape')
    await palette().waitFor({ state: 'detached' })
  })
})

describe('who is meant', () => {
  beforeAll(async () => {
    await page.goto(`${demo.ready.console}write`)
  })

  test('is found as one types, with how many follow, and becomes a chip', async () => {
    await field('To').click()
    await page.keyboard.type('farrow')
    const offered = { name: /route-4: Brackenholm – Farrow Isle\s*2 followers/, selected: true }
    await page.getByRole('option', offered).waitFor()
    await page.keyboard.press('Enter')
    await until(
      () => referencesIn(page),
      (all) => all.length === 1,
    )
    expect(await referencesIn(page)).toEqual(['topic:route-4'])
  })

  test('is read from a pasted list, each once, and taken away by Backspace', async () => {
    await field('To').focus()
    await page.evaluate(
      "navigator.clipboard; const data = new DataTransfer(); data.setData('text', 'user:ada\\nuser:signe, user:ada'); document.activeElement.dispatchEvent(new ClipboardEvent('paste', { clipboardData: data, bubbles: true, cancelable: true }))",
    )
    await until(
      () => referencesIn(page),
      (all) => all.length === 3,
    )
    await page.keyboard.press('Backspace')
    expect(await referencesIn(page)).toEqual(['topic:route-4', 'user:ada'])
  })

  test('is shown as text for who prefers it, and read from it', async () => {
    await page.getByRole('button', { name: 'As text' }).click()
    const text = field('To, as text')
    expect(await text.inputValue()).toBe('any: topic:route-4 user:ada')
    await text.fill('user:haru\nnone: topic:weather')
    await page.getByRole('button', { name: 'As rows' }).click()
    expect([await referencesIn(page), await referencesIn(page, 'But in none of')]).toEqual([
      ['user:haru'],
      ['topic:weather'],
    ])
  })
})

describe('values', () => {
  test('are found in the texts as one types, and missing ones stand marked in the pictures', async () => {
    await sayTo(page, 'user:haru')
    await page.getByRole('button', { name: 'Remove topic:weather' }).click()
    await field('Title').fill('{vessel} is {delay, number} minutes late')
    await field('Value of vessel').waitFor()
    await page.getByLabel('On iOS').locator('mark').filter({ hasText: '{delay}' }).waitFor()
    await field('Value of vessel').fill('Kittiwake')
    await field('Value of delay').fill('15')
    await page.getByLabel('On iOS').getByText('Kittiwake is 15 minutes late').waitFor()
    expect(await page.getByLabel('On iOS').locator('mark').count()).toBe(0)
  })

  test('are offered after a brace, by name', async () => {
    await field('Body').click()
    await page.keyboard.type('Your pier is {home')
    await page.getByRole('option', { name: /homePier/ }).click()
    expect(await textIn(field('Body'))).toContain('{homePier')
  })
})

test('from Write to Send without a mouse', async () => {
  await page.getByRole('button', { name: 'Start over' }).focus()
  await page.keyboard.press('Enter')
  await page.getByRole('button', { name: 'Start over' }).waitFor({ state: 'detached' })
  const tabTo = async (role: 'button' | 'textbox' | 'combobox', name: string) => {
    const wanted = page.getByRole(role, { name, exact: true })
    await wanted.waitFor()
    await wanted.evaluate((one) => one.setAttribute('data-wanted', ''))
    for (let i = 0; i < 80; i++) {
      if (await page.evaluate("document.activeElement.hasAttribute('data-wanted')")) {
        await page.evaluate("document.activeElement.removeAttribute('data-wanted')")
        return
      }
      await page.keyboard.press('Tab')
    }
    throw new Error(`nobody comes to ${name} by Tab`)
  }
  await tabTo('combobox', 'To')
  await page.keyboard.type('user:haru ')
  await tabTo('textbox', 'Title')
  await page.keyboard.type('By keyboard')
  await tabTo('button', 'Review')
  await page.getByText('Would ring 1 device of 1 person').waitFor()
  await page.keyboard.press('Enter')
  await page.getByRole('heading', { name: 'Review' }).waitFor()
  await tabTo('button', 'Send in development')
  await page.keyboard.press('Enter')
  await page.getByRole('heading', { name: 'By keyboard' }).waitFor()
})

test('filters and the order of a list stand in its address', async () => {
  await page.goto(`${demo.ready.console}devices?platform=ios&sort=user&direction=ascending`)
  const rows = page.getByRole('row')
  await rows.nth(2).waitFor()
  expect(await rows.count()).toBe(3)
  expect(await page.getByRole('columnheader', { name: 'Person' }).getAttribute('aria-sort')).toBe('ascending')
  await choose(field('Platform'), 'android')
  await page.waitForURL(/platform=android/)
})

test('leaving a form with changes asks, and what was typed is there for who stays', async () => {
  await page.goto(`${demo.ready.console}app`)
  await page.getByLabel('Its name').fill('Sailing board')
  await page.getByRole('navigation').getByRole('link', { name: 'Devices' }).click()
  const asks = page.getByRole('dialog', { name: 'Leave without saving?' })
  await asks.getByRole('button', { name: 'Stay here' }).click()
  await asks.waitFor({ state: 'detached' })
  expect(await page.getByLabel('Its name').inputValue()).toBe('Sailing board')
  await page.getByRole('navigation').getByRole('link', { name: 'Devices' }).click()
  await asks.getByRole('button', { name: 'Leave' }).click()
  await page.getByRole('heading', { name: 'Devices', exact: true }).waitFor()
  await page.getByRole('navigation').getByRole('link', { name: 'Topics' }).click()
  await page.getByRole('heading', { name: 'Topics', exact: true }).waitFor()
})

test('whoever types before the editor is there goes on where they are when it comes', async () => {
  let release = () => {}
  const held = new Promise<void>((resolve) => {
    release = resolve
  })
  await page.route(/code-text-editor/, async (route) => {
    await held
    await route.continue()
  })
  await page.goto(`${demo.ready.console}write`)
  await page.locator('textarea').first().click()
  await page.keyboard.type('To the ')
  release()
  await page.locator('.cm-editor').first().waitFor()
  await page.keyboard.type('pier')
  await until(
    () => textIn(field('Title')),
    (text) => text === 'To the pier',
  )
  await page.unroute(/code-text-editor/)
  await page.getByRole('button', { name: 'Start over' }).click()
})

test('what is wrong in a text is marked in its place', async () => {
  await page.goto(`${demo.ready.console}write`)
  await field('Title').fill('To {pier} at {hour')
  const marked = page.locator('.cm-lintRange-error')
  await marked.waitFor()
  expect(await marked.textContent()).toMatch(/^(hour|\{)/)
  await marked.hover()
  await page.getByText('a { is not closed by a }').last().waitFor()
  await page.getByRole('button', { name: 'Start over' }).click()
})

test('on a phone a bar has the three places, with the pages behind it', async () => {
  const phone = await open({ width: 390, height: 844 })
  await phone.getByRole('navigation', { name: 'Places' }).getByRole('button', { name: 'Prepare' }).click()
  await phone.getByRole('dialog', { name: 'Prepare' }).getByRole('link', { name: 'Topics' }).click()
  await phone.getByRole('heading', { name: 'Topics' }).waitFor()
  await phone.getByRole('dialog').waitFor({ state: 'detached' })
  for (const path of ['activity', 'write', 'devices', 'people', 'health', 'bench', 'credentials', 'app', 'setup']) {
    await phone.goto(demo.ready.console + path)
    await phone.locator('main h1').waitFor()
    expect([path, await phone.evaluate('document.documentElement.scrollWidth <= innerWidth')]).toEqual([path, true])
  }
  await phone.context().close()
})

test('a session that ends in the middle of writing goes on where it was', async () => {
  await page.goto(`${demo.ready.console}write`)
  // What stands there until the editor has come gives its focus away when it does.
  await page.locator('.cm-content').first().waitFor()
  await field('Title').fill('Half written')
  await page.context().clearCookies()
  // The next thing that is asked for is refused, and the way back in stands before the page.
  await field('To').focus()
  await page.getByText('Your session has ended.').waitFor()
  await page.getByLabel('E-mail').fill(demo.ready.account.email)
  await page.getByLabel('Password').fill(demo.ready.account.password)
  await page.keyboard.press('Enter')
  await page.getByText('Your session has ended.').waitFor({ state: 'detached' })
  expect(await textIn(field('Title'))).toBe('Half written')
})

test('each answer brings a nonce of its own, which its policy names', async () => {
  const read = async () => {
    const answer = await fetch(`${demo.ready.console}write`)
    const inPage = /nonce="([^"]+)"/.exec(await answer.text())?.[1]
    const inPolicy = /style-src [^;]*'nonce-([^']+)'/.exec(answer.headers.get('content-security-policy') ?? '')?.[1]
    expect(inPage).toBe(inPolicy)
    expect(answer.headers.get('cache-control')).toBe('no-store')
    return inPage
  }
  const [one, other] = [await read(), await read()]
  expect(one?.length).toBeGreaterThanOrEqual(22)
  expect(other).not.toBe(one)
  expect(refused).toEqual([])
})

test('the first view is below 220 kB, and what only some pages need is loaded there', () => {
  const dir = fileURLToPath(new URL('../../dist/console/', import.meta.url))
  const html = readFileSync(`${dir}index.html`, 'utf8')
  const first = [...html.matchAll(/(?:src|href)="\/(assets\/[^"]+\.(?:js|css))"/g)].map(([, file]) => file!)
  const bytes = first.reduce((sum, file) => sum + gzipSync(readFileSync(dir + file), { level: 9 }).length, 0)
  expect(first.length).toBeGreaterThan(1)
  expect(bytes).toBeLessThan(220_000)
  const others = readdirSync(`${dir}assets`).filter((file) => file.endsWith('.js') && !first.includes(`assets/${file}`))
  expect(others.some((file) => file.startsWith('code-text-editor'))).toBe(true)
  expect(others.some((file) => file.startsWith('chart-drawing'))).toBe(true)
})
