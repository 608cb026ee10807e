import { afterAll, afterEach, beforeAll, expect, jest, test } from '@jest/globals'
import { sql } from 'drizzle-orm'
import { fillDevices } from '../../../e2e/harness/fleet.ts'
import { Milestones } from '../src/apps/store/milestones.ts'
import { listDeliveries } from '../src/deliveries/store/list-deliveries.ts'
import type { Gateways, Sendable } from '../src/engine/ports.ts'
import { sendBlock } from '../src/engine/send-block.ts'
import { sendBlockDefaults } from '../src/engine/send-options.ts'
import { ConcurrencyLimiter } from '../src/gateways/limiter.ts'
import { findNotification } from '../src/notifications/store/read-notifications.ts'
import { workStore } from '../src/sending/work-store.ts'
import { type ScratchApp, scratchApp } from './scratch-database.ts'
import { createNotification, newNotification } from './scratch-notification.ts'

let app: ScratchApp
beforeAll(async () => {
  app = await scratchApp()
  await fillDevices(app.scratch.url, ['clock-a', 'clock-b'], { appNo: app.scope.app.no })
})
afterAll(() => app.scratch.close())
afterEach(() => void jest.useRealTimers())

const hourMs = 3_600_000
/** Only what the process takes for the time of day: timers and the driver go on as they are. */
const clockIsOffBy = (ms: number) => jest.useFakeTimers({ now: Date.now() + ms, doNotFake: everythingButDate })
const everythingButDate: (
  | 'hrtime'
  | 'nextTick'
  | 'performance'
  | 'queueMicrotask'
  | 'setImmediate'
  | 'clearImmediate'
  | 'setInterval'
  | 'clearInterval'
  | 'setTimeout'
  | 'clearTimeout'
)[] = [
  'hrtime',
  'nextTick',
  'performance',
  'queueMicrotask',
  'setImmediate',
  'clearImmediate',
  'setInterval',
  'clearInterval',
  'setTimeout',
  'clearTimeout',
]

test.each([-hourMs, 0, hourMs])(
  'a process whose clock is off by %d ms sends in time, and neither expires nor outlives anything',
  async (offMs) => {
    const { database, scope } = app
    const sent: Sendable[] = []
    const slots = new ConcurrencyLimiter(5)
    const gateways: Gateways = {
      client: async () => ({
        via: { gateway: 'https://gateway.example', credential: null },
        limiterOf: () => slots,
        leadsToMany: false,
        state: 'open',
        prepare: async (notification) => {
          sent.push(notification)
          return { send: async () => ({ is: 'accepted' }) }
        },
      }),
    }
    const realNow = Date.now()
    clockIsOffBy(offMs)
    const given = newNotification({ ttlSeconds: 60, spreadSeconds: 0 })
    const created = await createNotification(database, scope, given, { leaseMs: 0 })
    expect(Math.abs(created.lifetime.createdAt.getTime() - realNow)).toBeLessThan(30_000)
    expect(created.lifetime.expiresAt.getTime() - created.lifetime.createdAt.getTime()).toBe(60_000)

    const store = workStore(database, new Milestones(database), 60_000, new AbortController().signal)
    const row = (await findNotification(database, scope, given.id))!
    await store.expandPage((await store.claim([], 0))!.claim, row)
    const { claim } = (await store.claim([], 0))!
    if (claim.kind !== 'send') throw new Error('a block was wanted')
    expect(Math.abs(claim.aheadMs + offMs)).toBeLessThan(30_000)
    await sendBlock(claim, row, store, gateways, { ...sendBlockDefaults, now: () => Date.now() })
    // The lifetime that is left, as the gateway is told, is the same by whichever clock.
    const leftMs = sent[0]!.expiresAtMs - Date.now()
    expect(leftMs).toBeGreaterThan(20_000)
    expect(leftMs).toBeLessThanOrEqual(60_500)
    jest.useRealTimers()
    const deliveries = await listDeliveries(database, row, { limit: 5 })
    expect(deliveries.map(({ state }) => state)).toEqual(['accepted', 'accepted'])
    for (const { moments } of deliveries)
      expect(Math.abs(moments.accepted!.getTime() - Date.now())).toBeLessThan(60_000)
  },
)

test('what is spread is due by the database’s clock', async () => {
  const { database, scope } = app
  clockIsOffBy(-hourMs)
  const given = newNotification({ ttlSeconds: 3_600, spreadSeconds: 600 })
  await createNotification(database, scope, given, { leaseMs: 0 })
  const store = workStore(database, new Milestones(database), 60_000, new AbortController().signal)
  await store.expandPage((await store.claim([], 0))!.claim, (await findNotification(database, scope, given.id))!)
  jest.useRealTimers()
  const due = await database.rows<{ s: number }>(
    sql`select timestampdiff(second, n.created_at, w.due_at) as s from work w join notifications n on n.no = w.subject_no where w.kind = 'send' order by s`,
  )
  expect(due.map(({ s }) => s)).toEqual([0, 300])
})
