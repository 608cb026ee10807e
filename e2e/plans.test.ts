import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import type { Client, NotificationRequest } from '@zbell/contract'
import { until, zbell } from './harness/programs.ts'
import { app, params, World } from './harness/world.ts'

let world: World
let client: Client
let count = 0

beforeAll(async () => {
  world = await World.open()
  client = world.backend
})
afterAll(() => world.close())

const command = (...args: string[]) =>
  zbell(args, { ZBELL_URL: world.url, ZBELL_KEY: world.backendKey, ZBELL_APP: app })

/** Somebody with one phone, and how to tell the service for them. */
async function somebody(more: object = {}) {
  const user = `somebody-${++count}`
  const { id } = await client.call('makeHandset', { params, body: { platform: 'android', user, ...more } as never })
  return { user, handset: id }
}
const send = (user: string, more: Partial<NotificationRequest> = {}) =>
  client.call('sendNotification', {
    params,
    body: { to: { any: [`user:${user}`] }, content: { title: 'Two for one' }, ...more },
  })
const read = (id: string) => client.call('readNotification', { params: { app, id } })

describe('the calendar of what is upcoming', () => {
  test('is read by whoever has its address, until it is revoked', async () => {
    await client.call('saveSchedule', {
      params: { app, schedule: 'evening' },
      body: {
        when: { from: '2026-11-02T18:00', zone: 'Europe/Oslo', repeat: 'FREQ=WEEKLY;BYDAY=MO' },
        notification: { to: { any: ['everyone'] }, content: { title: 'Your boat tomorrow' } },
      },
    })
    const made = await command('calendar', 'make')
    const address = made.out.trim()
    const answer = await fetch(address)
    expect(answer.headers.get('content-type')).toContain('text/calendar')
    const text = await answer.text()
    expect(text).toContain('SUMMARY:Your boat tomorrow')
    expect(text).toContain('RRULE:FREQ=WEEKLY;BYDAY=MO')
    expect(text).toContain('DTSTART;TZID=Europe/Oslo:20261102T180000')
    const unchanged = await fetch(address, { headers: { 'if-none-match': answer.headers.get('etag') ?? '' } })
    expect(unchanged.status).toBe(304)
    const again = (await command('calendar', 'make')).out.trim()
    expect((await fetch(address)).status).toBe(404)
    expect((await fetch(again)).status).toBe(200)
    await command('calendar', 'revoke')
    expect((await fetch(again)).status).toBe(404)
    expect((await command('calendar', 'show')).out).toContain('There is none')
    expect(text).not.toContain(world.backendKey)
  })
})

describe('plans', () => {
  test('are handed to devices by name, replaced and taken back', async () => {
    const { user, handset } = await somebody({ timeZone: 'UTC' })
    const plans = async () =>
      (await client.call('readHandset', { params: { app, id: handset } })).plans.map(({ name, title }) => [name, title])
    const hand = (title: string) =>
      command(
        'plan',
        'push',
        'last-boat',
        '--to',
        `user:${user}`,
        '--at',
        '22:40',
        '--repeat',
        'FREQ=DAILY',
        '--title',
        title,
      )
    const handed = await hand('The last boat')
    expect(handed.err).toContain('(each reader’s clock)')
    expect(await plans()).toEqual([['last-boat', 'The last boat']])
    await hand('The very last boat')
    expect(await plans()).toEqual([['last-boat', 'The very last boat']])
    await command('plan', 'revoke', 'last-boat', '--to', `user:${user}`)
    expect(await plans()).toEqual([])
    expect((await command('plan', 'push', 'x', '--to', 'everyone', '--title', 'T')).err).toContain('Say when it rings')
  })
})

test('a schedule that rings for nobody three times running is told on Health', async () => {
  await client.call('saveChannel', { params: { app, channel: 'quiet' }, body: { title: 'Quiet' } })
  await client.call('declareTopic', { params: { app, topic: 'empty' }, body: { title: null } })
  await client.call('saveSchedule', {
    params: { app, schedule: 'unheard' },
    body: {
      when: { at: '2099-01-01T00:00:00Z' },
      notification: { to: { any: ['topic:empty'] }, content: { title: 'T' } },
    },
  })
  const troubles = async () =>
    (await client.call('readHealth', { params })).troubles.map(({ detail }) => detail).join(' ')
  for (let n = 0; n < 3; n++) {
    expect(await troubles()).not.toContain('has rung for nobody')
    const { notification } = await client.call('runSchedule', { params: { app, schedule: 'unheard' } })
    await until(
      () => read(notification!),
      ({ state }) => state === 'finished',
    )
  }
  await until(troubles, (says) => says.includes('The schedule unheard has rung for nobody 3 times in a row.'))
})

test('one that waits for its hour is changed by its name, before anything has gone', async () => {
  const { user } = await somebody()
  await client.call('saveChannel', { params: { app, channel: 'offers' }, body: { title: 'Offers' } })
  await send(user, { name: 'tonight', when: { afterSeconds: 3_600 } })
  const edited = await client.call('editNotification', {
    params: { app, id: 'tonight' },
    body: { content: { title: 'Tonight, really', channel: 'offers' } },
  })
  expect(edited).toMatchObject({ state: 'scheduled', shows: { title: 'Tonight, really' }, channel: 'offers' })
  await client.call('deleteSchedule', { params: { app, schedule: 'tonight' } })
  expect((await read(edited.id)).state).toBe('cancelled')
})
