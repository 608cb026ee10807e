import { setTimeout as wait } from 'node:timers/promises'
import { ProblemError } from '@zbell/contract/client'
import { createConnection } from 'mysql2/promise'
import { fillMultitude } from '../e2e/harness/multitude.ts'
import { type Figure, figure } from './figure.ts'
import { app, House } from './house.ts'

const times = 7

/** How long lists, reviews and expansions take among a million people with a device each, and beside another app's. */
export async function lists(): Promise<Figure[]> {
  const house = await House.open()
  try {
    await fillMultitude(house.databaseUrl, 1_000_000)
    await topicsAreCounted(house.databaseUrl)
    const params = { app }
    const page = { limit: 50 } as const
    const bareMs = await bare(house.databaseUrl)
    const devices = (query: object) => () => house.backend.call('listDevices', { params, query: { ...page, ...query } })
    const people = (query: object) => () => house.backend.call('listUsers', { params, query: { ...page, ...query } })
    const next = async (list: (query: object) => () => Promise<{ next: string | null }>, query: object) => {
      const { next: after } = await list(query)()
      return list({ ...query, after })
    }
    const review = (to: object) => () =>
      house.backend.call('reviewNotification', { params, body: { to: to as never, content: { title: 'T' } } })
    const asked: [string, () => Promise<unknown>][] = [
      ['lists-devices', devices({})],
      ['lists-devices-next', await next(devices, {})],
      ['lists-devices-of-one', devices({ user: 'p-0777777' })],
      ['lists-devices-platform', devices({ platform: 'web' })],
      ['lists-devices-changed', devices({ sort: 'changedAt' })],
      ['lists-devices-seen', orGivenUp(devices({ sort: 'seenAt' }))],
      ['lists-people', people({})],
      ['lists-people-next', await next(people, {})],
      ['lists-people-name', people({ sort: 'user' })],
      ['lists-people-changed', people({ sort: 'changedAt' })],
      ['lists-people-search', people({ search: 'p-07777' })],
      ['lists-people-topic', people({ topic: 'route-1' })],
      ['lists-person', () => house.backend.call('readUser', { params: { app, user: 'p-0777777' } })],
      ['lists-topics', () => house.backend.call('listTopics', { params })],
      ['review-everyone', review({ any: ['everyone'] })],
      ['review-topic', review({ any: ['topic:route-1'] })],
      ['review-topics', review({ any: ['topic:route-2', 'topic:route-4'], none: ['topic:route-3'] })],
    ]
    const figures: Figure[] = []
    for (const [name, ask] of asked) figures.push(figure(name, await medianMs(ask), 'ms', bareMs))
    const everyone = await expands(house, { any: ['everyone'] }, 1_000_000)
    const topic = await expands(house, { any: ['topic:route-1'] }, 550_000)
    const few = await expands(house, { any: ['topic:route-2'] }, 50_000)
    const mixed = await expands(house, { any: ['topic:route-1', 'topic:route-4'], none: ['topic:route-3'] }, 400_000)
    return [
      ...figures,
      figure('expansion-everyone', everyone, 'devices/s'),
      figure('expansion-topic-half', topic, 'devices/s', everyone),
      figure('expansion-topic-few', few, 'devices/s', everyone),
      figure('expansion-topics-without', mixed, 'devices/s', everyone),
    ]
  } finally {
    await house.close()
  }
}

async function medianMs(ask: () => Promise<unknown>): Promise<number> {
  const durations: number[] = []
  // The first look finds nothing in memory; it is not counted.
  for (let i = 0; i <= times; i++) {
    const startMs = performance.now()
    await ask()
    if (i > 0) durations.push(performance.now() - startMs)
  }
  return durations.sort((a, b) => a - b)[times >> 1]!
}

/** An order that no index gives may be given up, in words. */
const orGivenUp = (ask: () => Promise<unknown>) => async () => {
  try {
    await ask()
  } catch (error) {
    if (!(error instanceof ProblemError) || error.problem.code !== 'too-slow') throw error
  }
}

/** The least that a page can cost: fifty rows by their primary key, over a connection that is there. */
async function bare(databaseUrl: string): Promise<number> {
  const connection = await createConnection(databaseUrl)
  const ms = await medianMs(() =>
    connection.query('select * from devices where no between ? and ?', [500_000, 500_049]),
  )
  await connection.end()
  return ms
}

/** That is a background job's, once a minute. */
async function topicsAreCounted(databaseUrl: string): Promise<void> {
  const connection = await createConnection(databaseUrl)
  for (let counted = 0; counted === 0; await wait(1_000)) {
    const [rows] = await connection.query('select 1 from topics where counted_users is not null')
    counted = (rows as unknown[]).length
  }
  await connection.end()
}

/** @returns devices a second, from the sending until all are found; a block a second, so that next to nothing is sent meanwhile */
async function expands(house: House, to: object, devices: number): Promise<number> {
  const params = { app }
  const { id } = await house.backend.call('sendNotification', {
    params,
    body: { to: to as never, content: { title: 'Timetable' }, ttlSeconds: 80_000, spreadSeconds: devices / 1_000 },
  })
  const startMs = performance.now()
  for (;;) {
    const { state, totals } = await house.backend.call('readNotification', { params: { app, id } })
    if (state !== 'expanding') {
      const perSecond = totals.expanded / ((performance.now() - startMs) / 1_000)
      // Paused, not cancelled: to end a million deliveries would go on beside the next one.
      await house.backend.call('holdNotification', { params: { app, id }, body: { hold: 'paused' } })
      return perSecond
    }
    await wait(10)
  }
}
