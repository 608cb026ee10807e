import { expect, test } from '@jest/globals'
import { complaints, consoleSuite, demo, page } from '../harness/console-suite.ts'
import { until } from '../harness/programs.ts'

consoleSuite('harbour')

/** Anybody changes a row on the company’s board. */
const board = (deed: string, sailing: number) =>
  fetch(`${demo.ready.passengers}/board`, {
    method: 'POST',
    headers: { 'content-type': 'application/json' },
    body: JSON.stringify({ deed, sailing, passenger: 'haru' }),
  })
const link = (name: string) => page.getByRole('main').getByRole('link', { name, exact: true })
const file = () => page.getByLabel('As a file')

test('the sources of the demo can be read, and show what they hold', async () => {
  await page.getByRole('navigation', { name: 'Pages' }).getByRole('link', { name: 'Sources', exact: true }).click()
  const row = page.getByRole('row').filter({ hasText: 'sailings' })
  await row.getByText('● fine').waitFor()
  expect(await row.textContent()).toContain('sailing-late')
  await link('sailings').click()
  await page.getByRole('button', { name: 'Try it' }).click()
  await page.getByRole('row').filter({ hasText: 'vessel' }).getByText('Kittiwake').waitFor()
  expect(await file().inputValue()).toMatch(/mysql:\/\/reader:•••@/)
  // A trigger reads it, so it cannot be deleted.
  expect(await page.getByRole('button', { name: 'Delete' }).count()).toBe(0)
})

test('a source is changed as a file: faults stand at their places, and its password stays', async () => {
  const text = await file().inputValue()
  await file().fill('source: [')
  await page.getByText(/Flow sequence|must end|expected/i).waitFor()
  await file().fill(text.replace('by: comparison', 'by: looking'))
  await page.getByRole('button', { name: 'Save' }).click()
  await page.getByText('/by:').waitFor()
  await file().fill(text.replace('everySeconds: 1', 'everySeconds: 2'))
  await page.getByRole('button', { name: 'Save' }).click()
  await page.getByText('version 2, by').waitFor()
  await page.getByText('● fine').waitFor()
})

test('a new source of others’ posts shows its secret once, and where to post', async () => {
  await page.goto(`${demo.ready.service}/new-source`)
  await page.getByRole('button', { name: 'What others post' }).click()
  await file().fill((await file().inputValue()).replace('source: weather', 'source: tides'))
  await page.getByRole('button', { name: 'Save' }).click()
  await page.getByText('whsec_').waitFor()
  await page.getByRole('link', { name: 'See where it is posted to' }).click()
  await page.getByText('/v1/incoming/').waitFor()
  await page.getByRole('button', { name: 'Delete' }).click()
  await page.getByRole('button', { name: 'Delete it', exact: true }).click()
  await page.getByRole('heading', { level: 1, name: 'Sources' }).waitFor()
})

test('a trigger over rows is written, tried on a taken row, and rung for oneself only', async () => {
  await page.goto(`${demo.ready.service}/new-trigger`)
  await file().fill(
    [
      'trigger: late-again',
      'source: sailings',
      'when: row.delay >= 15',
      'to: { any: ["\'topic:\' + row.route"] }',
      'template: delay',
      'values: { vessel: row.vessel, delay: row.delay, departs: row.departs, berth: row.berth, sailing: row.id }',
    ].join('\n'),
  )
  await page.getByRole('button', { name: 'Save' }).click()
  await page.getByRole('heading', { level: 1, name: 'late-again' }).waitFor()
  await page.getByText('– off').waitFor()
  const row = page.getByLabel('Row', { exact: true })
  await row.fill('{"id": 204, "delay": 25}')
  await page.getByRole('button', { name: 'Try it' }).click()
  await page.getByText('It fires, by case 1, for the key 204.').waitFor()
  await page.getByText('Sandpiper is 25 minutes late').waitFor()
  await page.getByLabel('Ring it for yourself').fill('user:ada')
  await page.getByRole('button', { name: 'Ring these only' }).click()
  await page.getByText('Rung. Look at the device.').waitFor()
  const shown = await until(
    () => demo.zbell('handset', 'show', 'ada-ios'),
    ({ out }) => out.includes('Sandpiper is 25 minutes late'),
  )
  expect(shown.code).toBe(0)
  await page.getByRole('button', { name: 'Take a row of sailings' }).click()
  await until(
    () => row.inputValue(),
    (text) => text.includes('Kittiwake'),
  )
  await file().fill((await file().inputValue()).replace('>= 15', '>= 20'))
  await page.getByRole('button', { name: 'Save' }).click()
  await page.getByText('version 2, by').waitFor()
  await page.getByText('– off').waitFor()
})

test('a row that is changed on the board rings a phone, and the log says so', async () => {
  await page.goto(`${demo.ready.service}/triggers/sailing-late`)
  expect((await board('restore', 204)).status).toBe(200)
  expect((await board('late', 204)).status).toBe(200)
  await until(
    () => demo.zbell('trigger', 'log', 'sailing-late'),
    ({ out }) => /204.*rung|rung.*204/.test(out),
  )
  const rung = page.getByRole('row').filter({ hasText: '204' }).filter({ hasText: 'rung' })
  await rung.first().waitFor()
  await page.getByRole('button', { name: 'Use the last one received' }).click()
  await page.getByRole('button', { name: 'Try it' }).click()
  await page.getByText(/It (fires|does not fire)/).waitFor()
  await until(
    () => demo.zbell('handset', 'show', 'haru-ios'),
    ({ out }) => out.includes('15分遅れています'),
  )
  expect(complaints).toEqual([])
})
