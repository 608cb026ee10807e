import type { ChildProcess } from 'node:child_process'
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import type { Browser, Locator, Page } from 'playwright-core'
import { openBrowser } from '../harness/browser.ts'
import { differsFrom } from '../harness/pictures.ts'
import { endProgram, patience, startProgram } from '../harness/programs.ts'

const names = [
  'letters',
  'actions',
  'fields',
  'toggles',
  'views',
  'floats',
  'forms',
  'tables',
  'charts',
  'texts',
  'answers',
  'states',
  'meant',
  'pictures',
] as const
const floats = [
  ['select', 'A select', 'listbox'],
  ['combobox', 'A combobox', 'dialog'],
  ['menu', 'A menu', 'menu'],
  ['popover', 'A popover', 'dialog'],
  ['dialog', 'A dialog', 'dialog'],
  ['sheet', 'A sheet', 'dialog'],
  ['question', 'A question', 'alertdialog'],
] as const

let server: ChildProcess
let browser: Browser
let page: Page
let address: string
const complaints: string[] = []

const taken = (of: Locator) => of.screenshot({ animations: 'disabled', timeout: patience(30_000) })

/** The page in one theme, when all that comes later has come. */
async function inTheme(theme: 'light' | 'dark'): Promise<void> {
  await page.addInitScript(`localStorage.setItem('bell-theme', '${theme}')`)
  await page.goto(`${address}/parts`)
  await page.locator('[data-part=texts] .cm-diagnostic, [data-part=texts] .cm-lintRange').first().waitFor()
  await page.locator('[data-part=charts] .recharts-legend-wrapper').nth(2).waitFor()
  await page.evaluate('document.fonts.ready')
}

beforeAll(async () => {
  const program = await startProgram<{ port: number }>('../e2e/harness/parts-server.mjs', [], process.env)
  server = program.child
  address = `http://127.0.0.1:${program.ready.port}`
  browser = await openBrowser()
  const context = await browser.newContext({ viewport: { width: 1_280, height: 800 }, reducedMotion: 'reduce' })
  page = await context.newPage()
  page.setDefaultTimeout(patience(90_000))
  page.on('console', (message) => {
    if (/Content Security Policy/.test(message.text())) complaints.push(message.text())
  })
})
afterAll(async () => {
  await browser?.close()
  if (server) await endProgram(server)
})

describe.each(['light', 'dark'] as const)('the parts of the console in the %s', (theme) => {
  beforeAll(() => inTheme(theme))

  test('all of them are on the page', async () => {
    const shown = await page.locator('[data-part]').evaluateAll((all) => all.map((one) => one.dataset.part))
    expect(shown).toEqual([...names])
  })

  test.each(names)('%s look as they were kept', async (name) => {
    expect(differsFrom(`${theme}/${name}`, await taken(page.locator(`[data-part=${name}]`)))).toBeUndefined()
  })

  test('a form says what the service would, beside its field, and keeps what was typed', async () => {
    const forms = page.locator('[data-part=forms]')
    await forms.getByRole('button', { name: 'Make a key' }).click()
    await forms.getByText('wants one character at least').waitFor()
    expect(differsFrom(`${theme}/forms-refused`, await taken(forms))).toBeUndefined()
  })

  test.each(floats)('a %s opens as it was kept, and Escape closes it', async (name, opener, role) => {
    await page
      .locator('[data-part=floats]')
      .getByRole('button', { name: opener })
      .or(page.locator('[data-part=floats]').getByRole('combobox', { name: opener }))
      .click()
    const open = page.getByRole(role)
    await open.waitFor()
    expect(differsFrom(`${theme}/floats-${name}`, await taken(open))).toBeUndefined()
    await page.keyboard.press('Escape')
    await open.waitFor({ state: 'detached' })
  })
})

test('nothing on it asks for more than the policy allows', () => {
  expect(complaints).toEqual([])
})
