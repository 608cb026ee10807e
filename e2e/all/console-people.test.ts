import { describe, expect, test } from '@jest/globals'
import { referencesIn } from '../harness/console-page.ts'
import { complaints, consoleSuite, demo, page } from '../harness/console-suite.ts'
import { until } from '../harness/programs.ts'

consoleSuite()

const nav = (name: string) => page.getByRole('navigation').getByRole('link', { name, exact: true }).click()
const row = (name: string) => page.getByRole('row').filter({ hasText: name })

describe('people', () => {
  test('are listed with what is known of them, and any attribute can be a column', async () => {
    await nav('People')
    await row('ada').getByText('Lantern Quay').waitFor()
    expect(await page.getByRole('columnheader', { name: 'pass' }).count()).toBe(0)
    await page.getByRole('button', { name: 'Columns' }).click()
    await page.getByLabel('pass').check()
    await page.keyboard.press('Escape')
    await row('ada').getByText('season').waitFor()
    await page.reload()
    await row('ada').getByText('season').waitFor()
  })

  test('change before one’s eyes, without a reload', async () => {
    await demo.zbell('user', 'set', 'iria', 'homePier=Brackenholm')
    await demo.zbell('handset', 'new', '--platform', 'ios', '--user', 'iria')
    await row('iria').getByText('Brackenholm').waitFor()
  })

  test('are found by the beginning of their name, and have a page with everything', async () => {
    await page.getByLabel('Name begins with').fill('sig')
    await row('ada').waitFor({ state: 'detached' })
    await page.getByRole('link', { name: 'signe' }).click()
    await page.getByText('Brackenholm').waitFor()
    await page.getByRole('button', { name: 'Let them leave route-3' }).waitFor()
    await page.getByLabel('Let them follow').fill('route-6')
    await page.getByRole('button', { name: 'Join' }).click()
    await page.getByRole('button', { name: 'Let them leave route-6' }).click()
    await page.getByRole('button', { name: 'Let them leave route-6' }).waitFor({ state: 'detached' })
    await page.getByText('example.merrow-sound.booked').waitFor()
    await page.getByRole('link', { name: 'Fjordfone 12' }).waitFor()
    await page.getByRole('link', { name: 'Ring this one' }).click()
    expect(await referencesIn(page)).toEqual(['user:signe'])
  })

  test('go out as a file', async () => {
    await nav('People')
    const [file] = await Promise.all([page.waitForEvent('download'), page.getByRole('link', { name: 'CSV' }).click()])
    expect(file.suggestedFilename()).toBe(`${demo.ready.app}-development-users.csv`)
    const text = (await (await file.createReadStream()).toArray()).join('')
    expect(text).toContain('ada,route-1 weather,true,Lantern Quay,season')
  })
})

test('topics show who follows, are declared, and can be rung', async () => {
  await nav('Topics')
  await row('route-4').getByText('Brackenholm – Farrow Isle').waitFor()
  await row('route-4').getByRole('link', { name: '2' }).click()
  await page.getByText('Who follows route-4?').waitFor()
  await row('nour').waitFor()
  await nav('Topics')
  await page.getByLabel('Topic', { exact: true }).fill('Not One')
  await page.getByRole('button', { name: 'Declare it' }).click()
  await page.getByText('is not a topic: small letters, digits, hyphens and dots').waitFor()
  await page.getByLabel('Topic', { exact: true }).fill('night-boat')
  await page.getByLabel('Title').fill('Night boat')
  await page.getByRole('button', { name: 'Declare it' }).click()
  await row('night-boat').getByRole('link', { name: 'Ring' }).click()
  expect(await referencesIn(page)).toEqual(['topic:night-boat'])
})

test('tables come in the order of whatever column’s head is clicked, and turn round', async () => {
  const column = (at: number) =>
    page.locator('tbody tr').evaluateAll((rows, i) => rows.map((one) => one.children[i]!.textContent), at)
  const settles = (at: number, wanted: readonly string[]) => expectSoon(() => column(at), wanted)
  const head = (name: string) => page.getByRole('columnheader', { name })
  await nav('People')
  await row('nour').waitFor()
  await head('Person').getByRole('button').click()
  await settles(0, ['ada', 'haru', 'iria', 'nour', 'signe'])
  expect(await head('Person').getAttribute('aria-sort')).toBe('ascending')
  await head('Person').getByRole('button').click()
  await settles(0, ['signe', 'nour', 'iria', 'haru', 'ada'])
  await head('homePier').getByRole('button').click()
  await settles(2, (await column(2)).sort())
  await nav('Devices')
  await head('Can it be rung?').getByRole('button').click()
  await page.locator('tbody tr').last().getByText('denied').waitFor()
  await nav('Topics')
  await head('People').getByRole('button').click()
  const counts = async () => (await column(1)).map(Number)
  await expectSoon(
    counts,
    (await counts()).sort((a, b) => b - a),
  )
})

/** A list that comes from the service is right as soon as it has come. */
async function expectSoon<T>(read: () => Promise<T>, wanted: T): Promise<void> {
  const same = (one: T) => JSON.stringify(one) === JSON.stringify(wanted)
  expect(await until(read, same)).toEqual(wanted)
}

test('a device’s page tells what rang there and what happened to it, live', async () => {
  await nav('Devices')
  await row('haru').getByRole('link', { name: 'Skerry 3 mini' }).click()
  await page.getByRole('link', { name: 'Boarding is open' }).waitFor()
  await demo.zbell('handset', 'set', 'haru-ios', '--muted', 'yes')
  await page.getByText('The user turned notifications off inside the app.').first().waitFor()
  await demo.zbell('handset', 'set', 'haru-ios', '--muted', 'no')
})

describe('the test bench', () => {
  const set = (id: string) => page.getByRole('article', { name: id })

  test('stands handsets side by side, and they answer to clicks', async () => {
    await nav('Test bench')
    await set('haru-ios')
      .getByRole('button', { name: /Boarding is open/ })
      .click()
    await set('haru-ios').getByText('In the app, at /sailings/204').waitFor()
    await set('ada-ios').getByRole('radio', { name: 'front' }).click()
    await set('ada-ios').getByText('In the app').waitFor()
    await set('ada-ios').getByRole('button', { name: 'no network' }).click()
    await demo.zbell('send', '--to', 'user:ada', '--title', 'Late by an hour', '--no-watch')
    await set('ada-ios').getByText('What happened to it').click()
    await set('ada-ios').getByText('waits at the gateway: there is no network').waitFor()
    await set('ada-ios').getByRole('button', { name: 'no network' }).click()
    await set('ada-ios')
      .getByRole('button', { name: /Late by an hour/ })
      .waitFor()
  })

  test('a new one asks once; whoever says no can be asked no more', async () => {
    await page.getByRole('button', { name: 'Switch one on' }).click()
    await set('ios-2').getByRole('button', { name: 'Say no' }).click()
    await set('ios-2').getByRole('button', { name: 'Say no' }).waitFor({ state: 'detached' })
    const more = async (entry: string) => {
      await set('ios-2').getByRole('button', { name: 'More', exact: true }).click()
      await page.getByRole('menuitem', { name: entry }).click()
    }
    await set('ios-2').getByRole('button', { name: 'More', exact: true }).click()
    await page.getByRole('menuitem', { name: 'Allow in settings' }).waitFor()
    await page.keyboard.press('Escape')
    await more('Remove the app')
    await set('ios-2').getByText('the app is not installed').waitFor()
    await more('Install the app')
    await set('ios-2').getByText('The app asks to ring:').waitFor()
  })
})

test('nothing on any page failed', () => expect(complaints).toEqual([]))
