import { beforeAll, describe, expect, test } from '@jest/globals'
import { choose, sayTo } from '../harness/console-page.ts'
import { complaints, consoleSuite, demo, page } from '../harness/console-suite.ts'
import { until } from '../harness/programs.ts'

consoleSuite()

beforeAll(async () => {
  await page.getByRole('navigation').getByRole('link', { name: 'Write' }).click()
  await page.getByRole('heading', { name: 'Write' }).waitFor()
})

const field = (name: string) => page.getByLabel(name, { exact: true })
const on = (surface: string) => page.getByLabel(`On ${surface}`)
const row = (name: string) => page.getByRole('row').filter({ hasText: name })
const anew = () => page.getByRole('button', { name: 'Start over' }).click()

describe('while it is being written', () => {
  test('what will be cut or left away is said beside its field', async () => {
    await sayTo(page, 'user:ada user:signe')
    await field('Title').fill('Kittiwake leaves Lantern Quay at twenty past five')
    await page.getByText('ios: has 49 characters; a lock screen cuts it after about 40.').waitFor()
    await page.getByText('android: has 49 characters; a lock screen cuts it after about 45.').waitFor()
    await field('Title').fill('Kittiwake is late')
    await page.getByText('a lock screen cuts it').first().waitFor({ state: 'detached' })
    for (const n of [1, 2, 3]) {
      await page.getByRole('button', { name: 'Add a button' }).click()
      await field(`Button ${n} says`).fill(`Choice ${n}`)
    }
    await page.getByText('web: has 3; only the first 2 are shown.').waitFor()
    for (const n of [3, 2, 1]) await page.getByRole('button', { name: `Remove button ${n}` }).click()
    await page.getByText('only the first 2 are shown').waitFor({ state: 'detached' })
  })

  test('the meter says how full each message is, and what does not fit does not go', async () => {
    const bytes = async () =>
      Number(
        (
          await on('iOS')
            .getByText(/ of 4,096 bytes/)
            .textContent()
        )
          ?.split(' ')[0]
          ?.replace(',', ''),
      )
    const before = await bytes()
    expect(before).toBeGreaterThan(50)
    await field('Body').fill('Berth 2. '.repeat(100))
    expect(await until(bytes, (now) => now > before + 500)).toBeLessThan(before + 1_000)
    await field('Body').fill('海が荒れています。'.repeat(180))
    await on('iOS')
      .getByText(/^✕ 4,\d{3} of 4,096 bytes$/)
      .waitFor()
    await page.getByRole('button', { name: 'Review' }).click()
    await page.getByRole('heading', { name: 'To be fixed first' }).waitFor()
    await page.getByText(/content: has 4,?\d{3} bytes on ios, and its gateway takes 4,?096/).waitFor()
    expect(await page.getByRole('button', { name: 'Send in development' }).isDisabled()).toBe(true)
    await field('Body').fill('')
  })

  test('it is shown as the person gets it whose name is given, in their own words', async () => {
    await field('Title').fill('{pier}: boarding')
    await field('Fallback of pier').fill('the pier')
    await page.getByLabel('Add a language').fill('ja')
    await page.keyboard.press('Enter')
    await field('Title').fill('乗船中')
    await page.getByRole('tab', { name: 'For everybody' }).click()
    await sayTo(page, 'everyone')
    await page.getByLabel('As this person gets it').fill('ada')
    await on('iOS').getByText(': boarding').waitFor()
    await page.getByLabel('As this person gets it').fill('haru')
    await on('Watch').getByText('乗船中').waitFor()
    await page.getByLabel('As this person gets it').fill('')
    await anew()
  })

  test('a pasted list is counted at once, each device of it once', async () => {
    await sayTo(page, 'user:ada\nuser:ada, user:signe; user:ada')
    await field('Title').fill('Late')
    await page.getByText('Would ring 3 devices of 2 people').waitFor()
    await page.getByText('Only some of them').click()
    await sayTo(page, 'user:signe', 'But in none of')
    await page.getByText('Would ring 2 devices of 1 person').waitFor()
    await page.getByRole('checkbox', { name: 'web' }).check()
    await page.getByText('Would ring 1 device of 1 person').waitFor()
    await anew()
  })
})

describe('before it goes and while it does', () => {
  test('to many the number has to be typed', async () => {
    expect((await demo.zbell('settings', 'change', '--ask-from', '2')).code).toBe(0)
    await sayTo(page, 'user:ada')
    await field('Title').fill('A berth changed')
    await page.getByText('Would ring 2 devices').waitFor()
    await page.getByRole('button', { name: 'Review' }).click()
    const send = page.getByRole('button', { name: 'Send in development' })
    await page.getByLabel('Type 2 to send').fill('3')
    expect(await send.isDisabled()).toBe(true)
    await page.getByLabel('Type 2 to send').fill('2')
    await send.click()
    await page.getByRole('heading', { name: 'A berth changed' }).waitFor()
    await row('ios').getByText('shown').first().waitFor()
    await row('web').getByText('shown').first().waitFor()
  })

  test('it is paused, goes on and is cancelled on its page, which asks once and says what had gone', async () => {
    await page.getByRole('navigation').getByRole('link', { name: 'Write' }).click()
    await sayTo(page, 'everyone')
    await field('Title').fill('Timetable of the winter')
    await choose(field('Goes out'), 'over an hour')
    await page.getByText('Would ring').waitFor()
    await page.getByRole('button', { name: 'Review' }).click()
    const asks = page.getByLabel(/^Type \d+ to send/)
    const [, count] =
      /^Type (\d+)/.exec((await page.locator('label').filter({ hasText: /^Type/ }).textContent()) ?? '') ?? []
    await asks.fill(count!)
    await page.getByRole('button', { name: 'Send in development' }).click()
    await page.getByRole('heading', { name: 'Timetable of the winter' }).waitFor()
    await page.getByRole('button', { name: 'Pause' }).click()
    await page.getByRole('button', { name: 'Go on' }).waitFor()
    await page.getByRole('button', { name: 'Go on' }).click()
    await page.getByRole('button', { name: 'Pause' }).waitFor()
    await page.getByRole('button', { name: 'Cancel', exact: true }).click()
    await page.getByText(/Nothing more goes out\. \d+ of \d+ devices have it already and keep it\./).waitFor()
    await page.getByRole('button', { name: 'Leave it' }).click()
    await page.getByRole('button', { name: 'Cancel', exact: true }).click()
    // The answer was made before the end, and comes after the page has heard of it.
    const endsOnPage = page.getByText('Cancelled: what had not gone by then does not go.')
    await page.route('**/hold?*', async (route) => {
      const response = await route.fetch()
      const before = { ...(await response.json()), revision: 1, state: 'sending' }
      await endsOnPage.waitFor()
      await route.fulfill({ response, json: before })
    })
    const answered = page.waitForResponse('**/hold?*')
    await page.getByRole('button', { name: 'Cancel it for good' }).click()
    await row('android').getByText('withdrawn').first().waitFor()
    await (await answered).finished()
    await page.unroute('**/hold?*')
    await page.evaluate(
      'new Promise((done) => setTimeout(() => requestAnimationFrame(() => requestAnimationFrame(done)), 50))',
    )
    expect(await page.getByRole('button', { name: 'Pause' }).count()).toBe(0)
    await endsOnPage.waitFor()
  })

  test('why begins with who and what, and follows it to that person', async () => {
    await page.getByRole('navigation').getByRole('link', { name: 'Why' }).click()
    expect(await page.getByRole('button', { name: 'Explain' }).isDisabled()).toBe(true)
    await field('Who').fill('ada')
    await page.getByRole('combobox', { name: 'Which notification' }).click()
    const [first, second] = await page.getByRole('option').allTextContents()
    expect([first, second]).toEqual([
      expect.stringContaining('Timetable of the winter'),
      expect.stringContaining('A berth changed'),
    ])
    await page.getByRole('combobox', { name: 'Which notification' }).last().fill('berth')
    await page.getByRole('option', { name: /Timetable/ }).waitFor({ state: 'detached' })
    await page.getByRole('option', { name: /A berth changed/ }).click()
    await field('Who').press('Enter')
    await page.getByText('Yes: it was shown').first().waitFor()
    await page.getByRole('link', { name: 'The notification' }).click()
    await page.getByRole('heading', { name: 'A berth changed' }).waitFor()
  })
})

describe('what the app asks', () => {
  const settings = async () =>
    JSON.parse((await demo.zbell('settings', 'show', '--json')).out) as Record<string, unknown>

  test('is changed on its page, and says beside the field what cannot be', async () => {
    await page.getByRole('navigation').getByRole('link', { name: 'App and keys' }).click()
    const asked = page.getByRole('region', { name: 'Settings of development' })
    expect(await asked.getByLabel('Confirm from so many devices on').inputValue()).toBe('2')
    await asked.getByLabel('Confirm from so many devices on').fill('none')
    await asked.getByRole('button', { name: 'Save the settings' }).click()
    await asked.getByText('wants a whole number').waitFor()
    await asked.getByLabel('Confirm from so many devices on').fill('2,500')
    await asked.getByLabel('Let devices join any topic').uncheck()
    await asked.getByRole('button', { name: 'Save the settings' }).click()
    await asked.getByText('saved').waitFor()
    expect(await settings()).toMatchObject({ askFrom: 2_500, openTopics: false, requireProof: false })
  })

  test('a key for proofs is shown once, and another one is made only after asking', async () => {
    const asked = page.getByRole('region', { name: 'Settings of development' })
    await asked.getByLabel('Require a proof').check()
    await asked.getByText('There is no key to sign proofs with yet').waitFor()
    await asked.getByRole('button', { name: 'Make a key for proofs' }).click()
    const secret = asked.getByRole('status').locator('p.font-mono')
    const first = await secret.textContent()
    expect(first?.length).toBeGreaterThan(30)
    await asked.getByText('There is no key to sign proofs with yet').waitFor({ state: 'detached' })
    await asked.getByRole('button', { name: 'Make another key for proofs' }).click()
    await page.getByText('no proof that was signed with it counts any more').waitFor()
    await page.getByRole('button', { name: 'Make it now' }).click()
    await page.getByText('no proof that was signed with it counts any more').waitFor({ state: 'detached' })
    expect(await asked.getByRole('status').locator('p.font-mono').textContent()).not.toBe(first)
    expect(await settings()).toMatchObject({ proofKey: true })
  })

  test('is shown and changed by zbell, which refuses what it cannot read', async () => {
    const changed = await demo.zbell('settings', 'change', '--ask-from', '5000', '--open-topics', 'yes')
    expect(changed.out).toMatch(/ask from +5,000 +devices on/)
    expect(changed.out).toMatch(/open topics +yes/)
    const refused = async (...args: string[]) => {
      const { code, err } = await demo.zbell('settings', 'change', ...args)
      return [code, err]
    }
    expect(await refused()).toEqual([2, expect.stringContaining('nothing to change was given')])
    expect(await refused('--ask-from', 'many')).toEqual([2, expect.stringContaining('wants a number of devices')])
    expect(await refused('--require-proof', 'true')).toEqual([2, expect.stringContaining('wants yes or no')])
    expect((await demo.zbell('settings', 'proof-key')).out).toMatch(/^\S{30,}\n$/)
  })
})

test('nothing failed meanwhile', () => expect(complaints).toEqual([]))
