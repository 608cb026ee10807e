import { expect, test } from '@jest/globals'
import type { NewTrigger } from '@zbell/contract'
import { client, complaints, consoleSuite, demo, page, params } from '../harness/console-suite.ts'

consoleSuite('harbour')

let count = 0

const freed: NewTrigger = {
  source: 'occurrences',
  types: ['example.merrow-sound.freed'],
  to: { any: ["'user:' + event.subject"] },
  cases: [
    { when: 'event.data.places == 0', content: { title: 'The list is full' } },
    { when: 'event.data.places > 0 && event.data.open', content: { title: '{places} places are free' } },
  ],
  values: { places: 'event.data.places' },
}
const report = (data: object) =>
  client.call('reportOccurrences', {
    params,
    body: {
      specversion: '1.0',
      id: `freed-${++count}`,
      source: 'https://tickets.merrow-sound.example',
      type: 'example.merrow-sound.freed',
      subject: 'ada',
      data: data as never,
    },
  })

test('a trigger is tried, switched on, rings, and its log leads to the notification', async () => {
  await page.getByRole('navigation', { name: 'Pages' }).getByRole('link', { name: 'Triggers', exact: true }).click()
  await page.getByRole('row').filter({ hasText: 'place-freed' }).getByText('● on').waitFor()
  await client.call('saveTrigger', { params: { ...params, trigger: 'freed' }, body: freed })
  await page.reload()
  await page.getByRole('link', { name: 'freed', exact: true }).click()
  await page.getByRole('heading', { level: 1, name: 'freed' }).waitFor()

  const event = page.getByLabel('Event', { exact: true })
  await event.fill('{')
  await page.getByText('is no JSON object').waitFor()
  await event.fill('{"id": "b-1", "source": "s", "subject": "ada", "data": {"places": 2, "open": true}}')
  await page.getByRole('button', { name: 'Try it' }).click()
  await page.getByText('It fires, by case 2, for the key s b-1.').waitFor()
  await page.getByText('2 places are free').first().waitFor()
  const why = page.getByRole('table', { name: 'event.data.places > 0 && event.data.open' })
  expect(await why.getByText('● yes').count()).toBe(2)
  await event.fill('{"id": "b-1", "source": "s", "subject": "ada", "data": {"places": 2}}')
  await page.getByRole('button', { name: 'Try it' }).click()
  await page.getByText('It does not fire').waitFor()
  await why.getByText('– not known').waitFor()
  await page.getByText('It has not fired yet.').waitFor()

  await page.getByRole('button', { name: 'Switch on' }).click()
  await page.getByRole('button', { name: 'Switch off' }).waitFor()
  await report({ places: 3, open: true })
  const log = page.getByRole('table', { name: 'Firings' })
  await log.getByRole('link', { name: 'The notification' }).waitFor()
  await page.getByRole('button', { name: 'Use the last one received' }).click()
  expect(await event.inputValue()).toContain('"places": 3')
  await log.getByRole('link', { name: 'The notification' }).click()
  await page.getByRole('heading', { level: 1, name: '3 places are free' }).waitFor()
})

test('one that could not ring says so, and is deleted', async () => {
  await report({ places: 'many', open: true })
  await report({ open: true })
  await page.goto(`${demo.ready.service}/triggers/freed`)
  const log = page.getByRole('table', { name: 'Firings' })
  await log.getByText('no-case').first().waitFor()
  await page.getByRole('button', { name: 'Delete' }).click()
  await page.getByRole('button', { name: 'Delete it', exact: true }).click()
  await page.getByRole('heading', { level: 1, name: 'Triggers' }).waitFor()
  for (const { name } of (await client.call('listTriggers', { params })).items)
    await client.call('deleteTrigger', { params: { ...params, trigger: name } })
  await page.reload()
  await page.getByText('A trigger rings for a row that changes').waitFor()
  expect(complaints).toEqual([])
})
