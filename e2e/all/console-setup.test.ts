import { execFileSync } from 'node:child_process'
import { mkdtempSync, readFileSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { describe, expect, test } from '@jest/globals'
import { Client } from '@zbell/contract/client'
import { choose } from '../harness/console-page.ts'
import { consoleSuite, demo, page } from '../harness/console-suite.ts'
import { patience, until } from '../harness/programs.ts'

consoleSuite()

const platform = (name: string) => page.getByRole('region', { name })
const nav = (name: string) => page.getByRole('navigation').getByRole('link', { name, exact: true })

describe('a new app, in the console', () => {
  test('is made, and begins with Setup', async () => {
    await nav('App and keys').click()
    await page.getByRole('link', { name: 'Make another app' }).click()
    // The page it was on has a field of that name too.
    await page.getByRole('heading', { name: 'Another app' }).waitFor()
    await page.getByLabel('Name', { exact: true }).fill('Brackenholm Guide')
    await until(
      () => page.getByLabel('Short name').inputValue(),
      (shown) => shown === 'brackenholm-guide',
    )
    await page.getByRole('button', { name: 'Make it' }).click()
    await page.getByText('How far is Brackenholm Guide from ringing in development?').waitFor()
    await platform('iOS').getByText('1 of 7').waitFor()
    // The start page knows where the way goes on.
    await page.goto(demo.ready.console)
    await page.getByText('How far is Brackenholm Guide').waitFor()
  })

  test('gets its identifier where it is missing, and a wrong one is refused there', async () => {
    const ios = platform('iOS')
    await ios.getByLabel('Identifier').fill('not one')
    await ios.getByRole('button', { name: 'Save', exact: true }).click()
    await ios.getByText('is not a bundle identifier').waitFor()
    await ios.getByLabel('Identifier').fill('example.brackenholm')
    await ios.getByRole('button', { name: 'Save', exact: true }).click()
    await ios.getByText('2 of 7').waitFor()
    await ios.getByRole('link', { name: 'Add a credential' }).waitFor()
  })

  test('rehearses on a virtual handset, and says everywhere that it was a rehearsal', async () => {
    const android = platform('Android')
    await android.getByRole('button', { name: 'Switch one on' }).click()
    await android.getByText('A virtual handset is registered.').waitFor()
    await android.getByRole('button', { name: 'Rehearse on it' }).click()
    await page.getByRole('heading', { name: 'A first ring' }).waitFor()
    await page.getByRole('row').filter({ hasText: 'android' }).getByText('◑ rehearsal').waitFor()
    await page.getByRole('row').filter({ hasText: 'android' }).getByText('shown').first().waitFor()
    await nav('Devices').click()
    await page.getByRole('row').filter({ hasText: 'Fjordfone 12' }).getByText('rehearses').waitFor()
    await nav('Setup').click()
    await platform('Android').getByText('A virtual handset reported back.').waitFor()
  })

  test('shows a key once, watches a device arrive with it, and revokes it after asking', async () => {
    await nav('App and keys').click()
    await page.getByLabel('Its name').fill('In the app')
    await choose(page.getByLabel('Role'), 'app: registers devices')
    await page.getByRole('button', { name: 'Make a key', exact: true }).click()
    const key = (await page.getByText(/^zb-app-/).textContent()) ?? ''
    expect(key).toMatch(/^zb-app-[\w-]{43}$/)
    await nav('Setup').click()
    await platform('iOS').getByText('No device is registered yet.').waitFor()
    const phone = new Client({ url: demo.ready.service, bearer: key })
    const body = { platform: 'ios' as const, token: 'a-token-of-a-real-phone', permission: 'granted' as const }
    await phone.call('registerDevice', { body })
    await platform('iOS')
      .getByText('A device is registered.')
      .waitFor({ timeout: patience(10_000) })
    await nav('App and keys').click()
    const row = page.getByRole('row').filter({ hasText: 'In the app' })
    expect(await row.textContent()).not.toContain(key)
    await row.getByRole('button', { name: 'Revoke' }).click()
    await page.getByRole('alertdialog').getByText('It cannot be taken back.').waitFor()
    await page.getByRole('button', { name: 'Leave it' }).click()
    await row.getByText('registers devices').waitFor()
    await row.getByRole('button', { name: 'Revoke' }).click()
    await page.getByRole('button', { name: 'Revoke it' }).click()
    await row.getByText('– revoked').waitFor()
    await expect(phone.call('registerDevice', { body })).rejects.toMatchObject({ problem: { code: 'unknown-key' } })
  })

  test('is renamed, and the whole console says so', async () => {
    await page.getByLabel('Name', { exact: true }).fill('Brackenholm Harbour')
    await page.getByRole('button', { name: 'Save', exact: true }).click()
    await page.getByText('saved', { exact: true }).waitFor()
    await until(
      () => page.getByLabel('App', { exact: true }).textContent(),
      (name) => name === 'Brackenholm Harbour',
    )
  })
})

test('a dropped PKCS#12 file is opened by its passphrase, asked for only then, and named for what it is', async () => {
  const dir = mkdtempSync(join(tmpdir(), 'bell-p12-'))
  const openssl = (...args: string[]) => execFileSync('openssl', args, { cwd: dir, stdio: 'pipe' })
  const subject = ['-subj', '/CN=example.brackenholm', '-days', '20']
  openssl('req', '-x509', '-newkey', 'rsa:2048', '-nodes', '-keyout', 'a.key', '-out', 'a.pem', ...subject)
  openssl('pkcs12', '-export', '-inkey', 'a.key', '-in', 'a.pem', '-out', 'a.p12', '-passout', 'pass:quay')
  await page.goto(`${demo.ready.service}/credentials?platform=ios`)
  const bytes = readFileSync(join(dir, 'a.p12')).toString('base64')
  rmSync(dir, { recursive: true })
  // A drop as the browser makes it: the file comes with the event.
  const transfer = await page.evaluateHandle(`(() => {
    const data = new DataTransfer()
    const bytes = Uint8Array.from(atob('${bytes}'), (one) => one.charCodeAt(0))
    data.items.add(new File([bytes], 'ferries.p12', { type: 'application/x-pkcs12' }))
    return data
  })()`)
  await page.getByText('Drop files here').dispatchEvent('drop', { dataTransfer: transfer })
  await page.getByText('ferries.p12').waitFor()
  await page.getByRole('button', { name: 'Add credential' }).click()
  await page.getByText('is protected by a passphrase').waitFor()
  await page.getByLabel('Passphrase').fill('wrong')
  await page.getByRole('button', { name: 'Add credential' }).click()
  await page.getByText('The passphrase does not open the file.').waitFor()
  await page.getByLabel('Passphrase').fill('quay')
  await page.getByRole('button', { name: 'Add credential' }).click()
  await page.getByText('asks for another kind of credential').waitFor()
})
