import { afterAll, beforeAll, beforeEach, expect, test } from '@jest/globals'
import { packBlock, unpackBlock } from '@zbell/core'
import { type SQL, sql } from 'drizzle-orm'
import { compile } from '../src/database/fragments.ts'
import type { Expansion } from '../src/engine/work.ts'
import { readersOf } from '../src/notifications/next-time.ts'
import { notificationsWhere } from '../src/notifications/store/read-notifications.ts'
import { FairQueue } from '../src/queue/fair-queue.ts'
import { claimNotificationWork } from '../src/sending/store/claim-notification-work.ts'
import { lookForReaders } from '../src/sending/store/expand-by-zone.ts'
import { expandPage } from '../src/sending/store/expand-page.ts'
import { around, type ScratchApp, scratchApp } from './scratch-database.ts'
import { createNotification } from './scratch-notification.ts'

let app: ScratchApp
const local = '2027-03-10T07:30'
/** 07:30 comes at these moments. */
const tokyo = Date.parse('2027-03-09T22:30:00Z')
const oslo = Date.parse('2027-03-10T06:30:00Z')
const newYork = Date.parse('2027-03-10T12:30:00Z')
const last = Date.parse('2027-03-10T19:30:00Z')

beforeAll(async () => {
  app = await scratchApp()
})
afterAll(() => app?.scratch.close())
beforeEach(async () => {
  for (const table of [sql`work`, sql`deliveries`, sql`notifications`, sql`devices`])
    await app.database.change(sql`delete from ${table}`)
})

const device = (no: number, zone: string | null, registered = '2026-01-01') =>
  app.database.change(
    sql`insert into devices (no, id, app_no, environment, platform, token, token_hash, secret_hash, permission, muted, time_zone,
          registered_at, seen_at, changed_at)
        values (${no}, unhex(md5(${no})), ${app.scope.app.no}, 'development', 'ios', 'x', unhex(sha2(${no}, 256)),
          unhex(sha2(concat('s', ${no}), 256)), 'granted', 0, ${zone}, ${registered}, now(3), now(3))`,
  )

const send = async (sentMs: number, past: 'skip' | 'now' | 'tomorrow' = 'skip') => {
  const at = new Date(sentMs)
  await createNotification(
    app.database,
    app.scope,
    {
      id: '01a2218d-10a3-739f-9bf2-9fc47209367f',
      target: { any: ['everyone'] },
      content: { title: 'Good morning' },
      filling: {},
      name: null,
      template: null,
      mode: 'show',
      urgency: 'normal',
      ttlSeconds: 3_600,
      spreadSeconds: 0,
      paused: false,
      sentBy: 'test',
      idempotencyHash: null,
      requestHash: Buffer.alloc(32),
      due: { at, graceSeconds: 600, readers: readersOf(local, past, at) },
    },
    { leaseMs: 0 },
  )
}

/** What happens when it is that moment. @returns who is found, and how it goes on */
const turn = async (nowMs: number): Promise<{ readonly found: number[]; readonly how: Expansion }> => {
  const before = await blocks()
  await app.database.change(sql`update work set due_at = utc_timestamp(3), leased_until = null where kind = 'expand'`)
  // Blocks of an earlier turn are nobody’s matter here.
  await app.database.change(sql`update work set suspended = true where kind = 'send'`)
  const work = await claimNotificationWork(app.database, { leaseMs: 60_000, fair: new FairQueue() })
  if (!work) throw new Error('there is no work')
  const claim = { ...work.claim, aheadMs: nowMs - Date.now() }
  const how = await expandPage(app.database, claim, work.notification, 60_000)
  return { found: (await blocks()).filter((no) => !before.includes(no)), how }
}
const blocks = async (): Promise<number[]> => {
  const rows = await app.database.rows<{ body: Buffer }>(sql`select body from work where kind = 'send' order by no`)
  return rows.flatMap(({ body }) => unpackBlock(body))
}

test('finds each when it is their hour, and ends when it has been everywhere', async () => {
  await device(1, 'Asia/Tokyo')
  await device(2, 'Europe/Oslo')
  await device(3, 'America/New_York')
  // Whose device has told no zone is meant by the app’s own clock.
  await device(4, null)
  await send(tokyo - 3_600_000)
  expect(await turn(tokyo)).toEqual({ found: [1], how: 'suspended' })
  expect(await turn(oslo)).toEqual({ found: [2], how: 'suspended' })
  expect(await turn(oslo + 3_600_000)).toEqual({ found: [4], how: 'suspended' })
  expect(await turn(newYork)).toEqual({ found: [3], how: 'suspended' })
  expect(await turn(last)).toEqual({ found: [], how: 'done' })
  const [row] = await app.database.rows(sql`select state, expanded, expires_at as expiresAt from notifications`)
  expect(row).toMatchObject({ state: 'sending', expanded: 4, expiresAt: new Date(last + 3_600_000) })
})

test('rings once for whoever travels, and not late for whoever comes new', async () => {
  await device(1, 'Asia/Tokyo')
  await device(2, 'Asia/Tokyo')
  await send(tokyo - 3_600_000)
  expect((await turn(tokyo)).found).toEqual([1, 2])
  // One has had it, of the other it is still in the queue; both land in Oslo before it is half past seven there.
  await app.database.change(sql`update work set body = ${Buffer.from(packBlock([2]))} where kind = 'send'`)
  await app.database.change(
    sql`insert into deliveries (notification_no, device_no, platform, state) select no, 1, 0, 1 from notifications`,
  )
  await app.database.change(sql`update devices set time_zone = 'Europe/Oslo' where no in (1, 2)`)
  await device(3, 'Asia/Tokyo', '2027-03-09 22:45:00')
  expect((await turn(oslo)).found).toEqual([])
})

test('rings nobody twice who leaves the queue while it is looked for readers', async () => {
  await device(1, 'Asia/Tokyo')
  await device(2, 'Asia/Tokyo')
  await device(3, 'Europe/Oslo')
  await send(tokyo - 3_600_000)
  expect((await turn(tokyo)).found).toEqual([1, 2])
  await app.database.change(sql`update devices set time_zone = 'Europe/Oslo'`)
  const [notification] = await notificationsWhere(app.database, sql`true`)
  let moved = false
  const move = async () => {
    if (moved) return
    moved = true
    await app.database.change(sql`delete from work where kind = 'send'`)
    await app.database.change(
      sql`insert into deliveries (notification_no, device_no, platform, state)
          select ${notification!.no}, no, 0, 1 from devices where no in (1, 2)`,
    )
  }
  // After each reading of the queue or of the target, whichever comes first, both devices move.
  const moving = around(app.database, {
    rows: async <T>(query: SQL) => {
      const rows = await app.database.rows<T>(query)
      if (/from work/.test(compile(query).sql)) await move()
      return rows
    },
    bounded: (how) => {
      const { rows } = app.database.bounded(how)
      return {
        rows: async <T>(query: SQL) => {
          const found = await rows<T>(query)
          if (/from deliveries/.test(compile(query).sql)) await move()
          return found
        },
      }
    },
  })
  expect((await lookForReaders(moving, notification!, 0, oslo)).numbers).toEqual([3])
})

test('does with those for whom it is over what was wished', async () => {
  const sent = oslo - 1_800_000
  for (const [past, first] of [
    ['skip', []],
    ['now', [1]],
    ['tomorrow', []],
  ] as const) {
    for (const table of [sql`work`, sql`notifications`, sql`devices`])
      await app.database.change(sql`delete from ${table}`)
    await device(1, 'Asia/Tokyo')
    await device(2, 'Europe/Oslo')
    await send(sent, past)
    expect([past, (await turn(sent)).found]).toEqual([past, first])
    expect([past, (await turn(oslo)).found]).toEqual([past, [2]])
    const next = await turn(tokyo + 86_400_000)
    expect([past, next.found]).toEqual([past, past === 'tomorrow' ? [1] : []])
  }
})
