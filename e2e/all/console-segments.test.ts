import { expect, test } from '@jest/globals'
import type { Locator } from 'playwright-core'
import { referencesIn, textIn } from '../harness/console-page.ts'
import { complaints, consoleSuite, demo, page } from '../harness/console-suite.ts'
import { until } from '../harness/programs.ts'

consoleSuite()

const rule = () => page.getByLabel('Rule', { exact: true })
const untilText = (text: string) =>
  until(
    () => textIn(rule()),
    (now) => now === text,
  )
/** Writes a rule in place of what stands there, as from a clipboard. */
const write = async (text: string) => {
  await rule().press('Control+a')
  await page.keyboard.insertText(text)
}

test('a rule is counted while it is written, with its names offered and its faults in their places', async () => {
  await page.getByRole('navigation').getByRole('link', { name: 'Segments' }).click()
  await page.getByRole('link', { name: 'Write the first one' }).click()
  await page.locator('.cm-editor').waitFor()
  await rule().click()
  await page.keyboard.type('user.pa')
  await page.getByRole('option', { name: /^pass/ }).waitFor()
  await page.keyboard.press('Enter')
  await page.keyboard.type(' = "season"')
  await page.locator('.cm-lintRange-error').waitFor()
  await page.getByText('whether two are equal is asked by ==').first().waitFor()
  await write('user.pass == "season"')
  await page.getByText('2 people').waitFor()
  await page.getByText('Such as').waitFor()
})

const rows = () => page.getByRole('group', { name: 'Rows', exact: true })
const row = (name: string) => rows().getByRole('group', { name, exact: true })
/** Chooses in one of the rows’ lists. */
const choose = async (within: Locator, list: string, option: string) => {
  await within.getByRole('combobox', { name: list, exact: true }).click()
  await page.getByRole('option', { name: option, exact: true }).click()
}
const addRow = async (within: Locator, what: RegExp) => {
  await within.getByRole('combobox', { name: 'Add a row' }).last().click()
  await page.getByRole('option', { name: what }).click()
}

test('rows beside the text follow it, and write it', async () => {
  await row('pass').waitFor()
  await choose(row('pass'), 'How it is compared', 'is not')
  await untilText('user.pass != "season"')
  await choose(row('pass'), 'How it is compared', 'is')
  await addRow(rows(), /^follows a topic/)
  await row('topic').getByText('Says nothing yet').waitFor()
  await untilText('user.pass == "season"')
  await row('topic').getByLabel('Name').fill('route-1')
  await untilText('user.pass == "season" && follows("route-1")')
  await page.getByText('1 person').waitFor()
  await choose(rows(), 'How they belong together', 'Any of these holds')
  await untilText('user.pass == "season" || follows("route-1")')
  await rows().getByRole('button', { name: 'Remove topic' }).click()
  await untilText('user.pass == "season"')
})

test('occurrences, moments, lists and groups are rows as well', async () => {
  await choose(rows(), 'How they belong together', 'All of these hold')
  await addRow(rows(), /merrow-sound.booked.*how often/)
  const booked = row('example.merrow-sound.booked')
  await booked.getByLabel('Times', { exact: true }).fill('2')
  await booked.getByLabel('Within', { exact: true }).fill('3')
  await untilText('user.pass == "season" && count("example.merrow-sound.booked", duration("72h")) >= 2')
  await booked.getByRole('button', { name: /^Remove/ }).click()
  await rows().getByRole('button', { name: 'Add a group' }).click()
  const group = rows().getByRole('group', { name: 'Group', exact: true })
  await addRow(group, /^renewed/)
  await addRow(group, /^homePier/)
  await choose(group.getByRole('group', { name: 'homePier' }), 'How it is compared', 'is one of')
  const piers = group.getByRole('group', { name: 'homePier' }).getByLabel('Values', { exact: true })
  for (const pier of ['Saltmere', 'Gull Point']) {
    await piers.fill(pier)
    await piers.press('Enter')
  }
  await untilText(
    'user.pass == "season" && (user.renewed < now - duration("720h") || user.homePier in ["Saltmere", "Gull Point"])',
  )
})

test('what no row can show stays text, and while the text cannot be read the rows wait', async () => {
  await write('size(user.homePier) > 3 && user.pass == "season"')
  await row('CEL').getByText('No row can show this').waitFor()
  await row('pass').waitFor()
  await write('user.pass == ')
  await page.getByText('the rows show it as it was').waitFor()
  expect(await row('pass').getByLabel('Value', { exact: true }).isDisabled()).toBe(true)
  await write('user.pass == "season"')
  await row('CEL').waitFor({ state: 'detached' })
})

test('it is tried on somebody, clause by clause, before it is saved', async () => {
  await page.getByLabel('Who', { exact: true }).fill('signe')
  await page.keyboard.press('Enter')
  await page.getByText('signe does not belong.').waitFor()
  const clause = page.getByRole('row').filter({ hasText: 'user.pass == "season"' })
  await clause.getByText('✕ no').waitFor()
  await clause.getByText('"weekly"').waitFor()
})

test('it is saved under a name, changed, rung, and removed after asking', async () => {
  await page.getByLabel('Name', { exact: true }).fill('Season Holders')
  await page.getByRole('button', { name: 'Save it' }).click()
  await page.getByText('wants up to 64 small letters, digits').waitFor()
  await page.getByLabel('Name', { exact: true }).fill('season')
  await page.getByRole('button', { name: 'Save it' }).click()
  await page.getByRole('heading', { name: 'season', exact: true }).waitFor()
  await write('user.pass == "season" && user.bicycle')
  await page.getByRole('button', { name: 'Save', exact: true }).click()
  await page.getByText('saved', { exact: true }).waitFor()
  await page.getByRole('link', { name: 'Ring these' }).click()
  expect(await referencesIn(page)).toEqual(['segment:season'])
  await page.getByLabel('Title', { exact: true }).fill('Winter timetable')
  await page.getByText('Would ring').waitFor()
  await page.getByRole('button', { name: 'Start over' }).click()
  await page.goto(`${demo.ready.console}segments`)
  await page.getByRole('row').filter({ hasText: 'version 2' }).getByRole('link', { name: 'season' }).click()
  expect(await textIn(rule())).toBe('user.pass == "season" && user.bicycle')
  await page.getByRole('button', { name: 'Remove', exact: true }).click()
  await page.getByRole('button', { name: 'Remove it' }).click()
  await page.getByText('A segment is a rule with a name').waitFor()
})

test('nothing failed meanwhile', () => expect(complaints).toEqual([]))
