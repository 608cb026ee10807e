import { text } from 'node:stream/consumers'
import type { Browser, BrowserContext, BrowserContextOptions, Download, Locator, Page } from 'playwright-core'
import type { Ready } from './demo.ts'
import { patience } from './programs.ts'

/** Chooses from a list that opens. @param option its words, whole */
export async function choose(control: Locator, option: string): Promise<void> {
  await control.click()
  await control.page().getByRole('option', { name: option, exact: true }).click()
}

/** What a file holds that the page hands over. */
export const downloaded = async (download: Download): Promise<string> => text(await download.createReadStream())

/** What stands in an editor of a text that is a language. */
export async function textIn(editor: Locator): Promise<string> {
  await editor.locator('.cm-line').first().waitFor()
  return (await editor.locator('.cm-line').allTextContents()).join('\n')
}

/** The references that a field of a target has, as its chips name them. */
export async function referencesIn(page: Page, label = 'To'): Promise<string[]> {
  const input = page.getByLabel(label, { exact: true })
  await input.waitFor()
  const field = input.locator('..')
  const names = await field
    .getByRole('button', { name: /^Remove / })
    .evaluateAll((all) => all.map((one) => one.ariaLabel ?? ''))
  return names.map((name) => name.slice('Remove '.length))
}

/** Says who is meant, in place of whoever was. @param references typed as references are, with spaces between */
export async function sayTo(page: Page, references: string, label = 'To'): Promise<void> {
  const input = page.getByLabel(label, { exact: true })
  while ((await referencesIn(page, label)).length > 0) {
    await input.fill('')
    await input.press('Backspace')
  }
  await input.fill(references)
  await input.press('Enter')
}

/** The console opens the app that it showed last, else the first there is: here the suite's own. */
export const beginsWith = (context: BrowserContext, { app }: Ready): Promise<unknown> =>
  context.addInitScript(`localStorage.getItem('bell-app') ?? localStorage.setItem('bell-app', '${app}')`)

/** Signs in with the demo’s account. */
export async function signIn(page: Page, { console: address, account }: Ready): Promise<void> {
  await page.goto(address)
  await page.getByLabel('E-mail').fill(account.email)
  await page.getByLabel('Password').fill(account.password)
  await page.keyboard.press('Enter')
  await page.locator('#main h1').waitFor()
}

/**
 * A page of the console on which somebody has signed in.
 * @returns the page, and what it complains of: a refusal that a test provokes is no complaint
 */
export async function openConsole(
  browser: Browser,
  ready: Ready,
  options: BrowserContextOptions = {},
): Promise<{ readonly page: Page; readonly complaints: readonly string[] }> {
  const viewport = { width: 1_280, height: 800 }
  const context = await browser.newContext({ viewport, reducedMotion: 'reduce', ...options })
  await beginsWith(context, ready)
  const page = await context.newPage()
  page.setDefaultTimeout(patience(60_000))
  await page.addInitScript(
    "document.addEventListener('securitypolicyviolation', (one) => console.error('refused by the policy', one.sourceFile))",
  )
  const complaints: string[] = []
  page.on('pageerror', (error) => complaints.push(error.message))
  page.on('console', (message) => {
    if (message.type() === 'error' && !/status of 4(01|04|22)/.test(message.text())) complaints.push(message.text())
  })
  await signIn(page, ready)
  return { page, complaints }
}
