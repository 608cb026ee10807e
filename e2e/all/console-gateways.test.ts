import { readFileSync } from 'node:fs'
import { describe, expect, test } from '@jest/globals'
import { choose, textIn } from '../harness/console-page.ts'
import { client, consoleSuite, demo, page, params } from '../harness/console-suite.ts'
import { dist, until } from '../harness/programs.ts'

consoleSuite()

const nav = (name: string) => page.getByRole('navigation', { name: 'Pages' }).getByRole('link', { name, exact: true })
const editor = () => page.locator('.cm-content')
const request = () => page.getByRole('region', { name: 'The request that it makes' })
/** Writes a whole profile in place of what stood there. */
async function write(text: string): Promise<void> {
  await editor().click()
  await page.keyboard.press('Control+a')
  await page.keyboard.insertText(text)
}
const standin = () => readFileSync(`${dist}profiles/standin-ios.yaml`, 'utf8')

describe('a gateway’s profile, in the console', () => {
  test('is found from Setup, with the request that it makes beside it', async () => {
    await nav('Setup').click()
    await page.getByRole('region', { name: 'iOS' }).getByRole('link', { name: 'Its profile' }).click()
    await page.getByRole('heading', { name: 'Gateway for ios' }).waitFor()
    await page.getByText('named by the service’s configuration').waitFor()
    await page.locator('.cm-editor').waitFor()
    await request().getByText('authorization: Badge ••••').waitFor()
    await request().getByText('"headline": "Boarding is open"').waitFor()
  })

  test('offers what may stand where, and the words that a value may be', async () => {
    await write('profile: ours\nanswers:\n  - { status: 200, outcome: acc')
    const offered = page.getByRole('listbox').getByRole('option')
    await page.keyboard.press('Control+Space')
    await offered.getByText('accepted').waitFor()
    await page.keyboard.press('Escape')
    await write('profile: ours\nauthentication:\n  life')
    await page.keyboard.press('Control+Space')
    await offered.getByText('lifetimeSeconds').click()
    expect(await textIn(page.locator('.cm-editor'))).toContain('  lifetimeSeconds: ')
  })

  test('is linted while it is written, in its place, and cannot be saved then', async () => {
    await write(standin().replace('kind: signed-token', 'kind: sealed-letter'))
    await page.getByText(/^Line 8: authentication.kind/).waitFor()
    await page.locator('.cm-lintRange-error').first().waitFor()
    expect(await page.getByRole('button', { name: 'Save and use' }).isDisabled()).toBe(true)
  })

  test('makes another request as soon as it is another, and one for another sample', async () => {
    const { origin } = await client
      .call('listGateways', { params })
      .then(({ items }) => items.find(({ platform }) => platform === 'ios')!)
    await write(
      standin()
        .replace('https://127.0.0.1:7431', origin!)
        .replace('"headline": content.title', '"headline": $uppercase(content.title)'),
    )
    await request().getByText('"headline": "BOARDING IS OPEN"').waitFor()
    await request().getByLabel('Title').fill('Berth 4')
    await request().getByText('"headline": "BERTH 4"').waitFor()
  })

  test('is tried before it is saved: what came back, and what that means', async () => {
    await request()
      .getByRole('button', { name: /^Send it/ })
      .click()
    await request().getByText('410, token-gone.').waitFor()
    await request().getByText('The gateway accepted the credential, but knows no such token.').waitFor()
  })

  test('is saved, in use at once, and taken back', async () => {
    await page.getByRole('button', { name: 'Save and use' }).click()
    await page.getByText('version 1 of the app’s own').waitFor()
    const { items } = await client.call('listGateways', { params })
    const { origin } = items.find(({ platform }) => platform === 'ios')!
    const second = (at: string) =>
      standin().replace('profile: standin-ios', 'profile: second').replace('https://127.0.0.1:7431', at)
    await write(second('https://gateway.example'))
    await page.getByRole('button', { name: 'Save and use' }).click()
    await page.getByText('the credential in use was not added for https://gateway.example').waitFor()
    await write(second(origin!))
    await page.getByRole('button', { name: 'Save and use' }).click()
    await page.getByText('version 2 of the app’s own').waitFor()
    const versions = page.getByRole('table', { name: 'Versions' })
    await versions.getByRole('row').filter({ hasText: 'standin-ios' }).getByText('◌ waiting').waitFor()
    await page.getByRole('button', { name: 'Put version 1 in use' }).click()
    await page.getByText('version 1 of the app’s own').waitFor()
    await page.getByRole('button', { name: 'Go back to what the service’s configuration names' }).click()
    await page.getByText('named by the service’s configuration').waitFor()
    expect((await client.call('readGateway', { params: { ...params, platform: 'ios' } })).version).toBeNull()
  })

  test('begins from an example of each kind of authentication, or from a file', async () => {
    await choose(page.getByLabel('Begin from an example'), 'grant')
    await until(
      () => textIn(page.locator('.cm-editor')),
      (text) => text.includes('profile: our-ios'),
    )
    await request()
      .getByText(/Facts of the account \(account\)/)
      .waitFor()
    await page
      .locator('input[type=file]')
      .setInputFiles({ name: 'ios.yaml', mimeType: 'application/yaml', buffer: Buffer.from(standin()) })
    await until(
      () => textIn(page.locator('.cm-editor')),
      (text) => text.includes('profile: standin-ios'),
    )
    // What was written and not saved is asked about.
    await nav('Gateways').click()
    await page.getByRole('alertdialog').or(page.getByRole('dialog')).getByText('Leave without saving?').waitFor()
    await page.getByRole('button', { name: 'Leave', exact: true }).click()
    await page.getByRole('row').filter({ hasText: 'android' }).getByText('service-key').waitFor()
  })
})

test('a key file without a profile that reads it is asked about, with what looks like each field filled in', async () => {
  const { items } = await client.call('listGateways', { params })
  const { origin } = items.find(({ platform }) => platform === 'android')!
  const profile = readFileSync(`${dist}profiles/standin-android.yaml`, 'utf8')
    .replace(/keyFile:[\s\S]*?request:/, 'request:')
    .replace('https://127.0.0.1:7432', origin!)
  await client.call('saveGateway', { params: { ...params, platform: 'android' }, body: { profile } })
  const file = JSON.parse(readFileSync(demo.ready.androidKeyFile, 'utf8')) as {
    key: { pem: string }
  }
  const other = { mail: 'other@merrow-sound.example', keyId: 'signal-key-9', secret: file.key.pem }
  for (const { id, platform } of await client.all('listCredentials', { params }))
    if (platform === 'android') await client.call('retireCredential', { params: { ...params, id } })
  await page.goto(`${demo.ready.service}/credentials?platform=android`)
  const form = page.locator('form').filter({ hasText: 'Add a credential' })
  await form.getByLabel('Or paste').fill(JSON.stringify(other))
  await form.getByRole('button', { name: 'Add credential' }).click()
  await form.getByLabel('Account: project').waitFor()
  expect(await form.getByLabel('Issuer').inputValue()).toBe('other@merrow-sound.example')
  expect(await form.getByLabel('Key id').inputValue()).toBe('signal-key-9')
  await form.getByLabel('Account: project').fill('merrow-sound')
  await form.getByRole('button', { name: 'Add credential' }).click()
  await form.getByText('It is a service-key for android').waitFor()
  await page.getByRole('row').filter({ hasText: 'signal-key-9' }).getByText('project: merrow-sound').waitFor()
})
