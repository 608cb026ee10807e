import { generateKeyPairSync } from 'node:crypto'
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import type { Notification } from '@zbell/contract'
import type { Browser, BrowserContext, Page } from 'playwright-core'
import { violationsOn } from './harness/axe.ts'
import { openBrowser } from './harness/browser.ts'
import { beginsWith, choose, downloaded, referencesIn, sayTo, textIn } from './harness/console-page.ts'
import { Company } from './harness/demo.ts'
import { patience } from './harness/programs.ts'

const demo = new Company()
let browser: Browser
let context: BrowserContext
let page: Page
const complaints: string[] = []

beforeAll(async () => {
  await demo.open()
  browser = await openBrowser()
  context = await browser.newContext({ viewport: { width: 1280, height: 800 }, reducedMotion: 'reduce' })
  await beginsWith(context, demo.ready)
  page = await context.newPage()
  page.setDefaultTimeout(patience(60_000))
  page.on('pageerror', (error) => complaints.push(error.message))
  // The browser writes down every refusal of the service; those are tested for themselves, all else is a fault.
  page.on(
    'console',
    (message) =>
      message.type() === 'error' && !/status of 4(01|22)/.test(message.text()) && complaints.push(message.text()),
  )
})
afterAll(async () => {
  await browser.close()
})

const row = (name: string) => page.getByRole('row').filter({ hasText: name })

describe('the console', () => {
  test('the link signs in once, and its secret leaves the address bar', async () => {
    await page.goto(demo.ready.signInLink)
    await page.getByRole('heading', { name: 'Activity' }).waitFor()
    expect(page.url()).not.toContain('zb-link')
    const again = await browser.newPage()
    await again.goto(demo.ready.signInLink)
    await again.getByRole('alert').waitFor()
    expect(await again.getByRole('alert').textContent()).toContain('do not let anyone in')
    await again.close()
  })

  test('address and password sign in as well; wrong ones do not', async () => {
    const other = await (await browser.newContext()).newPage()
    await other.goto(demo.ready.console)
    await other.getByLabel('E-mail').fill(demo.ready.account.email)
    await other.getByLabel('Password').fill('wrong password')
    await other.getByRole('button', { name: 'Sign in' }).click()
    await other.getByRole('alert').waitFor()
    await other.getByLabel('Password').fill(demo.ready.account.password)
    await other.keyboard.press('Enter')
    await other.getByRole('heading', { name: 'Activity' }).waitFor()
    await other.context().close()
  })

  test('what is sent elsewhere appears without a reload, and moves', async () => {
    await demo.zbell('send', '--to', 'user:ada', '--title', 'Kittiwake is 15 minutes late')
    await row('Kittiwake is 15 minutes late').getByText('2 devices: 2 shown').waitFor()
    await page.getByRole('link', { name: 'Kittiwake is 15 minutes late' }).click()
    await page.getByRole('heading', { name: 'Kittiwake is 15 minutes late' }).waitFor()
    await row('ios').getByText('shown').first().waitFor()
    expect(await row('ios').getByText('opened').count()).toBe(0)
    await demo.zbell('handset', 'tap', 'ada-ios')
    await row('ios').getByText('opened').first().waitFor()
    expect(await row('web').getByText('opened').count()).toBe(0)
  })

  test('a list that was read before a change and comes after it does not stand', async () => {
    await page.getByRole('navigation', { name: 'Pages' }).getByRole('link', { name: 'Activity' }).click()
    await row('Kittiwake is 15 minutes late').getByText('opened').waitFor()
    await demo.zbell('send', '--to', 'user:ada', '--title', 'Puffin leaves from quay 3')
    await row('Puffin leaves from quay 3').getByText('2 devices: 2 shown').waitFor()
    let letCome = () => {}
    const mayCome = new Promise<void>((done) => {
      letCome = done
    })
    const wasRead = new Promise<void>((done) =>
      page.route(/search=Puffin/, async (route) => {
        const response = await route.fetch()
        done()
        await mayCome
        await route.fulfill({ response })
      }),
    )
    await page.getByLabel('Search').fill('Puffin')
    await wasRead
    const heard = page.evaluate(
      (url) =>
        new Promise((done) => {
          const events = new EventSource(url)
          events.addEventListener('notification', ({ data }) => {
            const { shows, totals } = JSON.parse(data) as Notification
            if (shows.title.startsWith('Puffin') && totals.opened > 0) done(events.close())
          })
        }),
      `/v1/apps/${demo.ready.app}/events?environment=development`,
    )
    await demo.zbell('handset', 'tap', 'ada-ios')
    await heard
    letCome()
    await row('Puffin leaves from quay 3').getByText('opened').waitFor()
    await page.unrouteAll({ behavior: 'wait' })
    await page.getByLabel('Search').fill('')
  })

  test('the devices say who can be rung, and one can be rung from its page', async () => {
    await page.getByRole('navigation').getByRole('link', { name: 'Devices' }).click()
    await row('nour').getByText('denied').waitFor()
    await page.getByLabel('Person').fill('signe')
    await page.getByRole('link', { name: 'Fjordfone 12' }).click()
    await page.getByRole('link', { name: 'Ring this one' }).click()
    expect(await referencesIn(page)).toEqual([expect.stringMatching(/^device:[0-9a-f-]{36}$/)])
  })

  test('writing shows a preview, refuses beside the field, and ends in the notification going out', async () => {
    await sayTo(page, 'user:signe user:bob')
    await page.getByRole('button', { name: 'Review' }).click()
    await page.getByText('is needed: it is the first line').waitFor()
    await page.getByLabel('Title', { exact: true }).fill('Boarding is open, {pier}')
    await page.getByLabel('Body', { exact: true }).fill('Berth 1, until 17:35.')
    await page.getByText('user:bob is not a user of this app').waitFor()
    await sayTo(page, 'user:signe')
    await page.getByText('Would ring 0 devices of 0 people; 1 left out.').waitFor()
    await page.getByRole('button', { name: 'Review' }).click()
    await page.getByText('1 of the devices belong to somebody without “pier”').waitFor()
    expect(await page.getByRole('button', { name: 'Send in development' }).isDisabled()).toBe(true)
    await page.getByLabel('Fallback of pier').fill('Saltmere')
    await page.getByText('Would ring 1 device of 1 person.').waitFor()
    await page.getByLabel('On Android').getByText('Boarding is open, Saltmere').waitFor()
    await page.getByRole('button', { name: 'Review' }).click()
    await page.getByLabel('Try it first').fill('user:ada')
    await page.getByRole('button', { name: 'Ring these only' }).click()
    await page.getByText('Rung for user:ada').waitFor()
    await page.getByRole('button', { name: 'Send in development' }).click()
    await page.getByRole('heading', { name: 'Boarding is open, Saltmere' }).waitFor()
    await row('signe').getByText('shown').first().waitFor()
    expect((await demo.zbell('handset', 'show', 'signe-android')).out).toContain('Boarding is open')
  })

  test('each device says why, and a notification is written anew or taken back', async () => {
    await row('signe').getByRole('link', { name: 'why' }).click()
    await page.getByText('Yes: it was shown, and has not been opened yet.').first().waitFor()
    await page.getByLabel('Who').fill('nour')
    await page.getByRole('button', { name: 'Explain' }).click()
    await page.getByText('No: the target does not name this device.').first().waitFor()
    await page.getByRole('link', { name: 'The notification' }).click()
    await page.getByRole('link', { name: 'Write one like it' }).click()
    expect(await textIn(page.getByLabel('Title', { exact: true }))).toBe('Boarding is open, {pier}')
    expect(await page.getByLabel('Fallback of pier').inputValue()).toBe('Saltmere')
    await page.goBack()
    await page.getByRole('button', { name: 'Withdraw' }).click()
    await page.getByText('1 device is woken to remove it').waitFor()
    await page.getByRole('button', { name: 'Withdraw it now' }).click()
    await page.getByRole('heading', { name: 'Wakes the app' }).waitFor()
    await row('signe').getByText('received').first().waitFor()
    expect((await demo.zbell('handset', 'show', 'signe-android')).out).not.toContain('Boarding is open, Saltmere')
  })

  test('what is being written is still there after a reload, in each of its languages', async () => {
    await page.goto(`${demo.ready.service}/write`)
    await sayTo(page, 'everyone')
    await page.getByLabel('Title', { exact: true }).fill('Storm tonight')
    await page.getByLabel('Add a language').fill('ar')
    await page.getByRole('button', { name: 'Add language' }).click()
    await page.getByLabel('Title', { exact: true }).fill('عاصفة الليلة')
    await page.getByLabel('On iOS').getByText('عاصفة الليلة').waitFor()
    await page.reload()
    await page.getByRole('tab', { name: 'ar' }).click()
    expect(await textIn(page.getByLabel('Title', { exact: true }))).toBe('عاصفة الليلة')
    await page.getByRole('button', { name: 'Start over' }).click()
    expect(await referencesIn(page)).toEqual([])
  })

  test('what is written is saved as a template, and taken up with its values to be filled in', async () => {
    await sayTo(page, 'user:ada')
    await page.getByLabel('Title', { exact: true }).fill('{vessel} leaves from berth {berth, number}')
    await page.getByLabel('Value of vessel').fill('Sandpiper')
    await page.getByLabel('Value of berth').fill('3')
    await page.getByText('Templates', { exact: false }).first().click()
    await page.getByLabel('Name of the template').fill('berth')
    await page.getByRole('button', { name: 'Save as template' }).click()
    await page.getByText('Saved as berth, version 1.').waitFor()
    await page.getByRole('button', { name: 'Start over' }).click()
    await page.getByRole('button', { name: 'Use berth' }).click()
    expect(await textIn(page.getByLabel('Title', { exact: true }))).toBe('{vessel} leaves from berth {berth, number}')
    expect(await page.getByLabel('Value of vessel').inputValue()).toBe('')
    expect(await page.getByLabel('Value of berth').inputValue()).toBe('')
    await page.getByRole('button', { name: 'Start over' }).click()
    const saved = JSON.parse((await demo.zbell('template', 'show', 'berth')).out) as { declares: object }
    expect(saved.declares).toEqual({ vessel: { type: 'text' }, berth: { type: 'number' } })
  })

  test('activity is found by words and by person', async () => {
    await page.getByRole('navigation').getByRole('link', { name: 'Activity' }).click()
    await page.getByLabel('Search').fill('Boarding is open, Salt')
    await page.getByText('Nothing that was sent fits.').waitFor()
    await page.getByLabel('Search').fill('Boarding is open, {pier}')
    await page.getByRole('link', { name: 'Boarding is open, Saltmere' }).first().waitFor()
    await page.getByLabel('Person').fill('iria')
    await page.getByText('Nothing that was sent fits.').waitFor()
    await page.getByLabel('Person').fill('')
    await page.getByLabel('Search').fill('')
  })

  test('what people write is shown as text, whatever it looks like', async () => {
    await demo.zbell('send', '--to', 'user:ada', '--title', '<img src=x onerror=alert(1)> العاصفة')
    await page.getByRole('navigation').getByRole('link', { name: 'Activity' }).click()
    await page.getByRole('link', { name: '<img src=x onerror=alert(1)> العاصفة' }).waitFor()
    expect(await page.locator('main img').count()).toBe(0)
  })

  test('a credential is pasted, asks for what it needs, waits, and is put in use and back', async () => {
    await page.getByRole('navigation').getByRole('link', { name: 'Credentials' }).click()
    await row('signing-key').getByText('● in use').waitFor()
    await row('signing-key').getByRole('button', { name: 'Check' }).click()
    await row('signing-key').getByText('It works: the gateway accepted the credential').waitFor()
    const { privateKey } = generateKeyPairSync('ec', { namedCurve: 'P-256' })
    await page.getByLabel('Or paste').fill('not a key')
    await page.getByRole('button', { name: 'Add credential' }).click()
    await page.getByText('neither a key nor a certificate').waitFor()
    await page
      .getByLabel('Or paste')
      .fill(String(privateKey.export({ type: 'pkcs8', format: 'pem', cipher: 'aes-256-cbc', passphrase: 'gull' })))
    await page.getByRole('button', { name: 'Add credential' }).click()
    await page.getByLabel('Passphrase').fill('gull')
    await page.getByRole('button', { name: 'Add credential' }).click()
    await page.getByLabel('Key id').fill('PASTED1')
    await page.getByLabel('Issuer').fill('MERROW-SOUND')
    await page.getByRole('button', { name: 'Add credential' }).click()
    await page.getByText('It is a signing-key for ios, and waits').waitFor()
    await row('PASTED1').getByRole('button', { name: 'Put in use' }).click()
    await row('PASTED1').getByText('● in use').waitFor()
    // The gateway does not know this key: the lane halts, and the page says so by itself.
    const id = (await demo.zbell('send', '--to', 'user:ada', '--title', 'Waiting for a key', '--no-watch')).out.trim()
    await row('PASTED1')
      .getByText('refused')
      .waitFor({ timeout: patience(30_000) })
    await row('QUAY7LAMP2').getByRole('button', { name: 'Put in use' }).click()
    await row('QUAY7LAMP2').getByText('● in use').waitFor()
    await page.goto(`${demo.ready.service}/activity/${id}`)
    await row('ios')
      .getByText('shown')
      .first()
      .waitFor({ timeout: patience(30_000) })
  })

  test('a file is dropped, and the request for a certificate is made', async () => {
    // The table above comes while the list of platforms is open, and moves all that lies below it.
    let answer = () => {}
    const opened = new Promise<void>((resolve) => {
      answer = resolve
    })
    await page.route('**/credentials?*', (route) => opened.then(() => route.continue()))
    await page.goto(`${demo.ready.service}/credentials`)
    const jwk = JSON.stringify(generateKeyPairSync('ec', { namedCurve: 'P-256' }).privateKey.export({ format: 'jwk' }))
    await page
      .locator('input[type=file]')
      .setInputFiles({ name: 'web.jwk', mimeType: 'application/json', buffer: Buffer.from(jwk) })
    await page.getByText('web.jwk').waitFor()
    await page.getByLabel('Platform').click()
    answer()
    await page.getByText('● in use').first().waitFor()
    await page.getByRole('option', { name: 'web', exact: true }).click()
    await page.unroute('**/credentials?*')
    await page.getByRole('button', { name: 'Add credential' }).click()
    const handIn = page.locator('form').filter({ hasText: 'Add a credential' })
    await handIn.getByLabel('Contact').fill('mailto:bell@merrow-sound.example')
    await page.getByRole('button', { name: 'Add credential' }).click()
    await page.getByText('It is a vapid-key for web, and waits').waitFor()
    await page.getByLabel('For', { exact: true }).fill('Merrow Sound Ferries')
    await page.getByRole('button', { name: 'Make a request' }).click()
    await page.getByLabel('The request').waitFor()
    expect(await page.getByLabel('The request').inputValue()).toContain('-----BEGIN CERTIFICATE REQUEST-----')
    await row('CN=Merrow Sound Ferries').getByText('awaits its certificate').waitFor()
  })

  test('the other environment is empty, looks different, and is remembered', async () => {
    await page.getByRole('radio', { name: 'production' }).click()
    await page.getByText('rings real people’s devices').waitFor()
    await page.getByText('None is here yet for production').waitFor()
    await page.getByRole('navigation').getByRole('link', { name: 'Activity' }).click()
    await page.getByText('appears here while it goes').waitFor()
    await page.reload()
    await page.getByText('rings real people’s devices').waitFor()
    await page.getByRole('radio', { name: 'development' }).click()
  })

  test('it works by keyboard alone', async () => {
    await page.goto(`${demo.ready.console}activity`)
    await row('Boarding is open').first().waitFor()
    const reached: string[] = []
    for (let i = 0; i < 40; i++) {
      await page.keyboard.press('Tab')
      reached.push(await page.evaluate('document.activeElement.textContent'))
    }
    expect(reached).toEqual(expect.arrayContaining(['Devices', 'Write', 'Activity', 'Write a notification']))
    await page.getByRole('link', { name: 'Write a notification' }).focus()
    await page.keyboard.press('Enter')
    await page.getByRole('heading', { name: 'Write' }).waitFor()
  })

  test('health says that all is well, and what today brought; what was sent can be saved', async () => {
    await page.getByRole('navigation').getByRole('link', { name: 'Health' }).click()
    await page.getByText('All is well.').waitFor()
    await row('ios').getByText('open', { exact: false }).first().waitFor()
    const day = new Date().toISOString().slice(0, 10)
    await page.getByRole('button', { name: day }).click()
    await page.getByRole('heading', { name: `How long it took on ${day}` }).waitFor()
    await row('until shown').waitFor()
    await page.getByText('The user does not allow notifications on this device.').waitFor()
    await page.getByRole('navigation').getByRole('link', { name: 'Activity' }).click()
    await choose(page.getByLabel('Not seen because'), 'The user does not allow notifications on this device.')
    await page.getByText('Boarding is open').first().waitFor({ state: 'detached' })
    expect(await page.locator('tbody tr').count()).toBeGreaterThan(0)
    await choose(page.getByLabel('Not seen because'), 'whatever became of it')
    await page.getByLabel('Search').fill('Boarding')
    await page.locator('a[download][href*="search=Boarding"]').first().waitFor()
    const saved = page.waitForEvent('download')
    await page.getByRole('link', { name: 'CSV' }).click()
    const download = await saved
    expect(download.suggestedFilename()).toBe(`${demo.ready.app}-development-notifications.csv`)
    const [heading, ...rows] = (await downloaded(download)).trimEnd().split('\n')
    expect(heading).toContain('title,body,expanded')
    expect(rows.every((one) => one.includes('Boarding'))).toBe(true)
    expect(rows).toHaveLength(await page.locator('tbody tr').count())
  })

  test('its main pages pass the checks of axe', async () => {
    for (const path of ['setup', 'devices', 'write', 'activity', 'triggers', 'health']) {
      await page.goto(demo.ready.console + path)
      await page.locator('main h1').waitFor()
      await page.getByRole('status', { name: 'Reading …' }).first().waitFor({ state: 'detached' })
      expect([path, await violationsOn(page)]).toEqual([path, []])
    }
  })

  test('nothing was refused by its own policy, and nothing failed', () => {
    expect(complaints).toEqual([])
  })

  test('requests from elsewhere do nothing, even with the session', async () => {
    const cookies = (await context.cookies()).map(({ name, value }) => `${name}=${value}`).join('; ')
    const url = `${demo.ready.service}/v1/apps/${demo.ready.app}/notifications?environment=development`
    const body = JSON.stringify({ to: { any: ['everyone'] }, content: { title: 'Forged' } })
    const answer = await fetch(url, {
      method: 'POST',
      headers: { cookie: cookies, 'content-type': 'application/json' },
      body,
    })
    expect([answer.status, ((await answer.json()) as { code: string }).code]).toEqual([403, 'csrf-refused'])
    const [session] = (await context.cookies()).filter(({ name }) => name === 'bell_session')
    expect(session).toMatchObject({ httpOnly: true, sameSite: 'Strict' })
  })

  test('signing out ends the session', async () => {
    await page.getByRole('button', { name: 'Harbour office' }).click()
    await page.getByRole('button', { name: 'Sign out' }).click()
    await page.getByLabel('Password').waitFor()
    await page.goto(`${demo.ready.console}activity`)
    await page.getByLabel('Password').waitFor()
  })
})
