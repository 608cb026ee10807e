import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import { Client } from '@zbell/contract'
import { choose } from '../harness/console-page.ts'
import { client, consoleSuite, demo, page } from '../harness/console-suite.ts'
import { until } from '../harness/programs.ts'
import { AppServer } from '../harness/receiver.ts'

consoleSuite()

let server: AppServer

beforeAll(async () => {
  server = await AppServer.open()
  const office = { url: server.url, kinds: ['device.retired'], enabled: true }
  const { secret } = await client.call('saveWebhook', {
    params: { app: demo.ready.app, webhook: 'office' },
    body: office,
  })
  server.believe(secret!)
})
afterAll(async () => {
  await server.close()
})

const nav = (name: string) => page.getByRole('navigation').getByRole('link', { name, exact: true })
const log = () => page.getByRole('table', { name: 'Log' })

describe('webhooks, in the console', () => {
  test('are listed, with what they are told and how they are', async () => {
    await nav('Webhooks').click()
    const row = page.getByRole('row').filter({ hasText: 'office' })
    await row.getByText('● working').waitFor()
    await row.getByText('device.retired').waitFor()
  })

  test('are written as a file, beside what there is to hear of, and show their secret once', async () => {
    await page.getByRole('link', { name: 'New webhook' }).click()
    await page.getByRole('row').filter({ hasText: 'credential.expiring' }).waitFor()
    const file = page.getByLabel('As a file')
    await file.fill('webhook: ledger\nurl: https://10.0.0.1/\nkinds: [delivery.gone]')
    await page.getByRole('button', { name: 'Save' }).click()
    await page.getByText('means no kind of event').first().waitFor()
    await file.fill(`webhook: ledger\nurl: ${server.url}\nkinds: [device.*, delivery.refused]`)
    await page.getByRole('button', { name: 'Save' }).click()
    const secret = (await page.getByText(/^whsec_/).textContent()) ?? ''
    server.believe(secret)
    await page.getByRole('link', { name: 'Try it' }).click()
    await page.getByRole('heading', { name: 'ledger' }).waitFor()
    expect(await page.content()).not.toContain(secret)
  })

  test('send an example, and show the request and the answer', async () => {
    server.answer((_, response) => void response.writeHead(202).end('taken down'))
    await choose(page.getByLabel('Kind'), 'delivery.refused')
    await page.getByRole('button', { name: 'Send an example' }).click()
    await page.getByText('● 202').waitFor()
    await page.getByText('taken down').first().waitFor()
    await page.getByText('"trial": true').waitFor()
    await log().getByText('○ tried by hand').waitFor()
    expect(server.unbelieved).toEqual([])
  })

  test('show what was told, each request whole, and tell it once more', async () => {
    const user = 'passenger-of-the-ledger'
    await new Client({ url: demo.ready.service, bearer: demo.ready.appKey }).call('registerDevice', {
      body: { platform: 'ios', token: 'a-token-of-the-ledger', permission: 'granted', user },
    })
    await log().getByText('● acknowledged').waitFor()
    await log().getByRole('row').filter({ hasText: '● acknowledged' }).getByRole('link').first().click()
    await page.getByRole('heading', { name: /^Request \d+$/ }).waitFor()
    await page.getByText('"type": "device.registered"').waitFor()
    await page.getByRole('button', { name: 'Replay it' }).click()
    await page.getByText('1 event will be replayed').waitFor()
    const events = await until(
      () => server.events.filter(({ type, trial }) => type === 'device.registered' && !trial),
      (all) => all.length === 2,
    )
    expect(new Set(events.map(({ id }) => id)).size).toBe(1)
  })

  test('get a new secret, are switched off and on, and are deleted after asking', async () => {
    await page.goto(`${demo.ready.console}webhooks/ledger`)
    await page.getByRole('button', { name: 'Make a new secret' }).click()
    await page.getByRole('button', { name: 'Make it' }).click()
    await page.getByText(/^whsec_/).waitFor()
    await page.getByText('signs too, until').waitFor()
    await page.getByRole('button', { name: 'Switch off' }).click()
    await page.getByText('– off').waitFor()
    await page.getByRole('button', { name: 'Switch on' }).click()
    await page.getByText('● working').waitFor()
    await page.getByRole('button', { name: 'Delete', exact: true }).click()
    await page.getByRole('button', { name: 'Delete it' }).click()
    await page.getByRole('heading', { name: 'Webhooks' }).waitFor()
    await until(
      () => page.getByRole('row').filter({ hasText: 'ledger' }).count(),
      (count) => count === 0,
    )
  })
})
