import { expect, test } from '@jest/globals'
import { complaints, consoleSuite, demo, page } from '../harness/console-suite.ts'

consoleSuite(undefined, { timezoneId: 'Europe/Oslo' })

const write = async (title: string) => {
  await page.goto(`${demo.ready.console}write?to=user:ada`)
  await page.getByLabel('Title', { exact: true }).fill(title)
}
const sendAway = async (act: string) => {
  await page.getByRole('button', { name: 'Review', exact: true }).click()
  await page.getByRole('button', { name: act }).click()
}

test('what is written rings at its hour: what was understood is said before, and it can be cancelled', async () => {
  await write('Storm tonight')
  await page.getByLabel('At', { exact: true }).fill('25:00')
  await page.getByText('“25:00” is no time').waitFor()
  await page.getByLabel('At', { exact: true }).fill('2098-11-27 18:00')
  await page.getByText('Rings Thu, 27 Nov 2098, 18:00 (Europe/Oslo).').waitFor()
  await sendAway('Schedule in development')
  await page.getByRole('heading', { name: 'Storm tonight' }).waitFor()
  await page.getByText('Waits for its hour, 27 Nov 2098, 18:00').first().waitFor()
  await page.getByRole('button', { name: 'Cancel' }).click()
  await page.getByRole('button', { name: /^Cancel it|^End it|^Stop/ }).click()
  await page.getByText('Cancelled: what had not gone').waitFor()
})

test('what rings again and again becomes a schedule, with a name that it wants', async () => {
  await write('Your boat tomorrow')
  await page.getByLabel('At', { exact: true }).fill('2026-11-27 18:00')
  await page.getByLabel('Again and again').fill('FREQ=DAILY')
  await page.getByText(/^Rings .* 18:00, then .* 18:00 … \(Europe\/Oslo\)\.$/).waitFor()
  await page.getByLabel('Name of the schedule').fill('evening')
  await sendAway('Schedule in development')
  await page.getByRole('heading', { name: 'evening', exact: true }).waitFor()
  await page.getByText('FREQ=DAILY from 2026-11-27 18:00 (Europe/Oslo)').waitFor()
  await page.getByText('2 devices of 1 person as of now').waitFor()
})

test('it stands in the agenda day by day, and among the schedules', async () => {
  await page.getByRole('navigation', { name: 'Pages' }).getByRole('link', { name: 'Upcoming' }).click()
  await page.getByText('Times by your clock, Europe/Oslo;').waitFor()
  expect(await page.getByRole('link', { name: 'Your boat tomorrow' }).count()).toBeGreaterThan(10)
  await page.getByRole('radio', { name: 'schedules' }).click()
  await page.getByRole('row').filter({ hasText: 'FREQ=DAILY' }).getByRole('link', { name: 'evening' }).click()
  await page.getByText('It has not rung yet.').waitFor()
})

test('it rests, goes on, leaves a time out, rings by hand, and is cancelled after asking', async () => {
  await page.getByRole('button', { name: 'Pause' }).click()
  await page.getByText('paused', { exact: true }).waitFor()
  await page.getByRole('button', { name: 'Go on' }).click()
  await page.getByText('by your clock').waitFor()
  await page.getByRole('button', { name: 'Skip the next' }).click()
  await page.getByRole('row').getByText('skipped', { exact: true }).waitFor()
  await page.getByRole('button', { name: 'Ring now' }).click()
  const rung = page.getByRole('row').filter({ hasText: 'rung by hand' })
  await rung.getByRole('link', { name: 'The notification' }).waitFor()
  await page.getByRole('button', { name: 'Cancel', exact: true }).click()
  await page.getByRole('button', { name: 'Cancel it' }).click()
  await page.getByText('Nothing rings within the next 14 days.').waitFor()
})

test('nothing failed meanwhile', () => expect(complaints).toEqual([]))
