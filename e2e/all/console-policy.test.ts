import { expect, test } from '@jest/globals'
import { choose, sayTo } from '../harness/console-page.ts'
import { client, complaints, consoleSuite, page, params } from '../harness/console-suite.ts'

consoleSuite()

const to = async (name: string) => {
  await page.getByRole('navigation', { name: 'Pages' }).getByRole('link', { name, exact: true }).click()
  await page.getByRole('heading', { level: 1, name, exact: true }).waitFor()
}

test('a channel is declared, changed and removed', async () => {
  await to('Channels')
  await page.getByLabel('Channel', { exact: true }).fill('New Boats')
  await page.getByLabel('Title', { exact: true }).fill('New boats')
  await page.getByRole('button', { name: 'Declare it' }).click()
  await page.getByText('is not a channel: small letters').waitFor()
  await page.getByLabel('Channel', { exact: true }).fill('new-boats')
  await page.getByLabel('Caps apply').click()
  await page.getByRole('button', { name: 'Declare it' }).click()
  const row = page.getByRole('row').filter({ hasText: 'new-boats' })
  await row.getByRole('link', { name: 'Change' }).click()
  await page.getByRole('heading', { name: 'Change New boats' }).waitFor()
  expect(await page.getByLabel('Caps apply').getAttribute('aria-checked')).toBe('false')
  await choose(page.getByLabel('Urgency', { exact: true }), 'very low')
  await page.getByRole('button', { name: 'Save the channel' }).click()
  await row.getByText('very-low').waitFor()
  await row.getByRole('link', { name: 'Change' }).click()
  await page.getByRole('button', { name: 'Remove this channel' }).click()
  await page.getByRole('button', { name: 'Remove it', exact: true }).click()
  await row.waitFor({ state: 'detached' })
})

test('quiet hours and caps are added and removed; what cannot be is said beside its field', async () => {
  const quiet = page.getByRole('region', { name: 'Quiet hours' })
  await quiet.getByLabel('From', { exact: true }).fill('25:00')
  await quiet.getByRole('button', { name: 'Add these hours' }).click()
  await quiet.getByText('wants a time of day').waitFor()
  await quiet.getByLabel('From', { exact: true }).fill('12:00')
  await quiet.getByLabel('To', { exact: true }).fill('13:30')
  await quiet.getByLabel('Begin on').fill('sa, su')
  await quiet.getByRole('button', { name: 'Add these hours' }).click()
  await quiet.getByText('SA, SU, 12:00 to 13:30: waits').waitFor()
  await quiet.getByRole('button', { name: 'Remove 12:00 to 13:30' }).click()
  await quiet.getByText('SA, SU, 12:00 to 13:30: waits').waitFor({ state: 'detached' })
  const caps = page.getByRole('region', { name: 'Caps' })
  await caps.getByLabel('Name', { exact: true }).fill('a-day')
  await caps.getByLabel('At most', { exact: true }).fill('9')
  await caps.getByRole('button', { name: 'Set this cap' }).click()
  await caps.getByText('9 in 24 hours').waitFor()
  await caps.getByRole('button', { name: 'Remove a-day' }).click()
  await caps.getByText('9 in 24 hours').waitFor({ state: 'detached' })
  const { quietHours, caps: left } = await client.call('readSettings', { params })
  expect([quietHours.length, left.map(({ name }) => name)]).toEqual([1, ['offers-a-week']])
})

test('the review says who waits for quiet hours and whom a cap leaves out, as of the hour at which it rings', async () => {
  for (const title of ['One', 'Two'])
    await client.call('sendNotification', {
      params,
      body: { to: { any: ['user:ada'] }, content: { title, channel: 'offers' }, urgency: 'high' },
    })
  await to('Write')
  await sayTo(page, 'user:ada user:signe')
  await page.getByLabel('Title', { exact: true }).fill('The islands this weekend')
  await choose(page.getByLabel('Channel', { exact: true }), 'Offers')
  await page.getByLabel('At', { exact: true }).fill('tomorrow 23:00')
  await page.getByText('of them wait for quiet hours to end').waitFor()
  await page.getByRole('button', { name: 'Review', exact: true }).click()
  await page.getByRole('heading', { name: 'Wait for quiet hours to end' }).waitFor()
  await page.getByText('The person had got as many as a cap allows.').waitFor()
  await page.getByText('leaves out 1 person').waitFor()
})

test('what rings on the devices themselves is handed to them by name', async () => {
  await page.getByRole('button', { name: 'Start over' }).click()
  await sayTo(page, 'user:haru')
  await page.getByLabel('Title', { exact: true }).fill('The last boat leaves in ten minutes')
  await page.getByLabel('At', { exact: true }).fill('22:40')
  await page.getByLabel('Zone', { exact: true }).fill('reader')
  await page.getByRole('radio', { name: 'the devices' }).click()
  await page.getByLabel('Name of the plan').fill('last-boat')
  await page.getByRole('button', { name: 'Review', exact: true }).click()
  await page.getByRole('button', { name: /in development/ }).click()
  await page.getByRole('heading', { name: 'Wakes the app' }).waitFor()
  for (;;) {
    const { plans } = await client.call('readHandset', { params: { ...params, id: 'haru-ios' } })
    if (plans.length === 0) continue
    expect(plans).toMatchObject([{ name: 'last-boat', title: 'The last boat leaves in ten minutes' }])
    break
  }
})

test('Upcoming stands as days too, with how many each will ring, and in somebody’s own calendar', async () => {
  await client.call('saveSchedule', {
    params: { ...params, schedule: 'evening' },
    body: {
      when: { from: '2026-11-02T18:00', zone: 'reader', repeat: 'FREQ=DAILY' },
      notification: { to: { any: ['user:ada'] }, content: { title: 'Your boat tomorrow' } },
    },
  })
  await to('Upcoming')
  await page.getByText('2 devices').first().waitFor()
  await page.getByRole('radio', { name: 'days' }).click()
  await page.getByText('2 devices, each one’s clock').first().waitFor()
  expect(await page.getByRole('link', { name: /18:00 Your boat tomorrow/ }).count()).toBeGreaterThan(12)
  await page.getByRole('button', { name: 'In your calendar' }).click()
  await page.getByText('There is no address yet.').waitFor()
  await page.getByRole('button', { name: 'Make an address' }).click()
  const address = await page
    .getByText(/\/v1\/calendars\/zb-calendar-/)
    .first()
    .textContent()
  expect(await (await fetch(address!.trim())).text()).toContain('Your boat tomorrow')
  await page.getByRole('button', { name: 'Revoke it' }).click()
  await page.getByText('There is no address yet.').waitFor()
  await page.keyboard.press('Escape')
})

test('a stop is seen on every page, and starting again asks what is still to ring', async () => {
  await to('Stop')
  await page.getByLabel('Why').fill('Wrong times in the timetable')
  await page.getByRole('button', { name: 'Stop everything' }).click()
  await page.getByRole('heading', { name: 'What waits' }).waitFor()
  for (const title of ['Late', 'Very late'])
    await client.call('sendNotification', { params, body: { to: { any: ['user:ada'] }, content: { title } } })
  await to('Activity')
  await page.getByText('Waits: the app is stopped.').first().waitFor()
  await page.getByRole('link', { name: 'See what waits' }).click()
  await page.getByRole('checkbox', { name: 'Ring Late', exact: true }).click()
  await page.getByRole('button', { name: 'Start again' }).click()
  await page.getByText('1 of 2 that wait rings at once, and 1 is cancelled.').waitFor()
  await page.getByRole('button', { name: 'Start it' }).click()
  await page.getByRole('button', { name: 'Stop everything' }).waitFor()
  await to('Activity')
  await page.getByRole('row').filter({ hasText: 'Very late' }).getByText('2 devices: 2 shown').waitFor()
  await choose(page.getByLabel('Channel', { exact: true }), 'Offers')
  await page.getByRole('row').filter({ hasText: 'Very late' }).waitFor({ state: 'detached' })
  await page.getByRole('link', { name: 'Two', exact: true }).waitFor()
})

test('nothing failed meanwhile', () => expect(complaints).toEqual([]))
