import { afterAll, beforeAll, beforeEach, describe, expect, test } from '@jest/globals'
import type { Cap, ChannelSetting } from '@zbell/core/policy'
import { sql } from 'drizzle-orm'
import { changeSettings } from '../src/apps/store/settings.ts'
import type { Tx } from '../src/database/database.ts'
import { whereOf } from '../src/database/scope.ts'
import { storeOutcomes } from '../src/deliveries/store/store-outcomes.ts'
import type { Claim } from '../src/engine/work.ts'
import { findNotificationByNo } from '../src/notifications/store/read-notifications.ts'
import { loadBlockDevices } from '../src/people/store/load-block-devices.ts'
import { countUnderCaps, pruneCapPages, refund, usesOf } from '../src/policy/store/caps.ts'
import { channelNamed, channelsOf, muteChannel, saveChannel, storeBlocked } from '../src/policy/store/channels.ts'
import { policyOf } from '../src/policy/store/policy-of.ts'
import { storeQuietHours } from '../src/policy/store/quiet-hours.ts'
import { startApp, stopApp, unparkForgotten } from '../src/policy/store/stop-and-start.ts'
import { findStop } from '../src/policy/store/stops.ts'
import { expandPage } from '../src/sending/store/expand-page.ts'
import { addDevice, around, type ScratchApp, scratchApp } from './scratch-database.ts'
import { claimNext, createNotification, newNotification } from './scratch-notification.ts'

let app: ScratchApp
const leaseMs = 60_000
beforeAll(async () => {
  app = await scratchApp()
})
afterAll(() => app?.scratch.close())
const where = () => whereOf(app.scope)

beforeEach(async () => {
  for (const table of ['work', 'deliveries', 'notifications', 'devices', 'users', 'cap_pages', 'app_stops'] as const)
    await app.database.change(sql`delete from ${sql.identifier(table)}`)
  await changeSettings(app.database, app.scope, { caps: [], quietHours: [] })
})

const device = (no: number, userNo: number | null = null) => addDevice(app, no, userNo)

const cap: Cap = { name: 'offers', most: 2, hours: 24 }
const count = (notificationNo: number, persons: readonly number[], caps: readonly Cap[] = [cap]) =>
  countUnderCaps(app.database, where(), notificationNo, caps, persons)

describe('caps', () => {
  test('let so many come for each person, and name the one that leaves somebody out', async () => {
    expect(await count(1, [5, -5, 300])).toEqual(new Map())
    expect(await count(2, [5])).toEqual(new Map())
    expect(await count(2, [5])).toEqual(new Map())
    expect(await count(3, [5, -5, 300])).toEqual(new Map([[5, 'offers']]))
    expect((await usesOf(app.database, where(), cap, [5, -5], Date.now())).get(-5)).toMatchObject([
      { notificationNo: 1 },
      { notificationNo: 3 },
    ])
  })

  test('count under none what one of several leaves out', async () => {
    const strict: Cap = { name: 'a-strict', most: 1, hours: 1 }
    await count(1, [7], [strict, cap])
    expect(await count(2, [7], [strict, cap])).toEqual(new Map([[7, 'a-strict']]))
    expect((await usesOf(app.database, where(), cap, [7], Date.now())).get(7)).toHaveLength(1)
  })

  test('are never passed by several notifications at once, whatever they have in common', async () => {
    const workers = Array.from({ length: 8 }, () => app.scratch.another())
    const persons = Array.from({ length: 600 }, (_, i) => i * 7 - 2_000)
    const left = await Promise.all(
      workers.map(async (database, worker) => {
        // Each in an order of its own.
        const own = persons.filter((person) => (person + worker) % 5 !== 0).sort(() => Math.random() - 0.5)
        return { own, over: await countUnderCaps(database, where(), 100 + worker, [cap], own) }
      }),
    )
    const came = new Map<number, number>()
    for (const { own, over } of left)
      for (const person of own) if (!over.has(person)) came.set(person, (came.get(person) ?? 0) + 1)
    expect([...came.values()].every((times) => times === cap.most)).toBe(true)
    expect(came.size).toBe(persons.length)
  })

  test('keep no page of which nothing counts any more', async () => {
    await count(1, [5, 9_000])
    await app.database.change(sql`update cap_pages set until_at = utc_timestamp(3) - interval 1 second where page = 0`)
    await pruneCapPages(app.database, () => true)
    expect(await app.database.rows(sql`select page from cap_pages`)).toEqual([{ page: 35 }])
  })

  test('get back what reached no device of a person, once all is known of a notification', async () => {
    await device(1, 10)
    await device(2, 10)
    await device(3, 30)
    await device(4)
    await createNotification(app.database, app.scope, newNotification(), { leaseMs: 0 })
    const expanding = (await claimNext(app.database, leaseMs))!
    const notification = (await findNotificationByNo(app.database, expanding.notificationNo))!
    await expandPage(app.database, expanding, notification, leaseMs)
    const block = (await claimNext(app.database, leaseMs)) as Claim & { kind: 'send' }
    await count(notification.no, [10, 30, -4])
    const refused = { state: 'refused', reason: 'too-large' } as const
    await storeOutcomes(
      app.database,
      block,
      {
        ended: ([['accepted'], refused, refused, refused] as const).map((how, i) => ({
          deviceNo: i + 1,
          platform: 'ios',
          attempts: 1,
          atMs: Date.now(),
          ...('state' in how ? how : { state: 'accepted' as const }),
        })),
        remaining: [],
        retries: [],
      },
      leaseMs,
    )
    const last = (await claimNext(app.database, leaseMs))!
    expect(last.kind).toBe('refund')
    expect(await refund(app.database, last, 0, leaseMs)).toEqual({ is: 'done' })
    const uses = await usesOf(app.database, where(), cap, [10, 30, -4], Date.now())
    expect([10, 30, -4].map((person) => uses.get(person)?.length)).toEqual([1, 0, 0])
    expect(await claimNext(app.database, leaseMs)).toBeUndefined()
  })
})

const setting: ChannelSetting = { title: 'Offers', quietHours: true, caps: true, names: { ios: 'offers_ios' } }

describe('what restrains a notification', () => {
  test('is found for the devices of a block: its channel, the app’s quiet hours and caps, and people’s own', async () => {
    const { database, scope } = app
    await saveChannel(database, where(), { name: 'offers', setting, madeBy: 'test' })
    const channel = (await channelNamed(database, where(), 'offers'))!
    await device(1, 10)
    await device(2, 20)
    await device(3)
    const night = { from: '22:00', to: '07:00', then: 'wait' as const, channels: ['offers'] }
    await changeSettings(database, scope, { caps: [cap], quietHours: [night], timeZone: 'Europe/Oslo' })
    await database.transact((tx) => muteChannel(tx, channel.no, 10, true))
    await database.transact((tx) =>
      storeBlocked(tx, where(), { no: 3, platform: 'ios' }, ['offers_ios', 'of another app']),
    )
    await storeQuietHours(database, where(), 20, [{ from: '12:00', to: '13:00', then: 'skip' }])
    const devices = await loadBlockDevices(database, [1, 2, 3])
    const { no: appNo } = scope.app
    const about = { appNo, environment: 'development', mode: 'show', urgency: 'normal', channel } as const
    expect(await policyOf(database, about, devices)).toEqual({
      quiet: [night],
      caps: [cap],
      timeZone: 'Europe/Oslo',
      own: new Map([[20, [{ from: '12:00', to: '13:00', then: 'skip' }]]]),
      blocked: new Set([3]),
      mutedBy: new Set([10]),
    })
    const urgent = await policyOf(database, { ...about, urgency: 'high', channel: null }, devices)
    expect(urgent).toMatchObject({ quiet: [], caps: [cap], own: new Map(), blocked: new Set() })
    expect(await policyOf(database, { ...about, mode: 'wake' }, devices)).toMatchObject({ quiet: [], caps: [] })
    expect(await channelsOf(database, where(), { no: 3, userNo: null })).toMatchObject([
      { muted: false, blocked: true },
    ])
    await database.transact((tx) => storeBlocked(tx, where(), { no: 3, platform: 'ios' }, []))
    await database.transact((tx) => muteChannel(tx, channel.no, 10, false))
    expect(await channelsOf(database, where(), { no: 3, userNo: 10 })).toMatchObject([{ muted: false, blocked: false }])
  })
})

describe('an app that is stopped', () => {
  test('has its work set aside, what comes in later too, and gets it back as it was', async () => {
    const { database, scope } = app
    await device(1)
    await createNotification(database, scope, newNotification(), { leaseMs: 0 })
    await stopApp(database, where(), { reason: 'wrong timetable', by: 'test' })
    expect(await claimNext(database, leaseMs)).toBeUndefined()
    await createNotification(database, scope, newNotification(), { leaseMs: 0 })
    // Whoever claims it first finds out, and nobody looks at it afterwards.
    expect(await claimNext(database, leaseMs)).toBeUndefined()
    expect(await database.rows(sql`select parked, leased_until as leased from work`)).toEqual([
      { parked: 1, leased: null },
      { parked: 1, leased: null },
    ])
    await startApp(database, where())
    expect(await claimNext(database, leaseMs)).toMatchObject({ kind: 'expand' })
    expect(await claimNext(database, leaseMs)).toMatchObject({ kind: 'expand' })
  })

  test('that is started between a worker’s reading of the stop and its parking goes on at once', async () => {
    const { database, scope } = app
    await device(1)
    await stopApp(database, where(), { reason: 'wrong timetable', by: 'test' })
    await createNotification(database, scope, newNotification(), { leaseMs: 0 })
    // Starts the app when the worker has read the notification, and with it that the app is stopped.
    const slow = around(database, {
      transact: async <T>(work: (tx: Tx) => Promise<T>) => {
        const claimed = await database.rows(sql`select 1 from work where fence > 0`)
        if (claimed.length > 0 && (await findStop(database, where()))) await startApp(database, where())
        return database.transact(work)
      },
    })
    expect(await claimNext(slow, leaseMs)).toMatchObject({ kind: 'expand' })
    expect(await database.rows(sql`select parked from work`)).toEqual([{ parked: 0 }])
  })

  test('leaves nothing parked when it was started by a process that died before it said so', async () => {
    const { database, scope } = app
    await createNotification(database, scope, newNotification(), { leaseMs: 0 })
    await stopApp(database, where(), { reason: 'wrong timetable', by: 'test' })
    await unparkForgotten(database)
    expect(await database.rows(sql`select parked from work`)).toEqual([{ parked: 1 }])
    await database.change(sql`delete from app_stops`)
    await unparkForgotten(database)
    expect(await database.rows(sql`select parked from work`)).toEqual([{ parked: 0 }])
  })

  test('holds back what a few people would have got at once', async () => {
    const { database, scope } = app
    await device(1, 10)
    await database.change(
      sql`insert into users (no, app_no, environment, name) values (10, ${scope.app.no}, 'development', 'ada')`,
    )
    await stopApp(database, where(), { reason: 'wrong timetable', by: 'test' })
    const made = await createNotification(database, scope, newNotification({ target: { any: ['user:ada'] } }), {
      leaseMs,
    })
    expect(made).toMatchObject({ is: 'created', leased: undefined })
    expect(await claimNext(database, leaseMs)).toBeUndefined()
  })
})
