import { randomBytes } from 'node:crypto'
import { afterAll, beforeAll, beforeEach, describe, expect, test } from '@jest/globals'
import { deliveryStates, packBlock, platforms, reasons, unpackBlock, uuidV7 } from '@zbell/core'
import { sql } from 'drizzle-orm'
import fc from 'fast-check'
import { uuidBuffer } from '../src/database/columns.ts'
import type { Database } from '../src/database/database.ts'
import { DatabaseFull, DatabaseUnavailable, translateError } from '../src/database/errors.ts'
import type { Scope } from '../src/database/scope.ts'
import { countDeliveries } from '../src/deliveries/store/counts.ts'
import { DayCounts, pruneDays, readDays } from '../src/deliveries/store/day-counts.ts'
import { gatewayAnswer } from '../src/deliveries/store/gateway-answers.ts'
import { storeOutcomes } from '../src/deliveries/store/store-outcomes.ts'
import type { Claim, Ended, GatewayAnswer } from '../src/engine/work.ts'
import { begin } from '../src/notifications/build-notification.ts'
import { findNotification, findNotificationByNo } from '../src/notifications/store/read-notifications.ts'
import { withdrawNotification, withdrawPage } from '../src/notifications/store/withdraw-notification.ts'
import { listProcesses, type ProcessReport, pruneSilent, reportProcess } from '../src/operations/store/processes.ts'
import { workOf } from '../src/queue/read-queue.ts'
import { type Scratch, scratchApp } from './scratch-database.ts'
import { claimNext, newNotification } from './scratch-notification.ts'

const leaseMs = 10_000
let scratch: Scratch
let database: Database
let scope: Scope
beforeAll(async () => {
  ;({ scratch, database, scope } = await scratchApp())
})
afterAll(() => scratch.close())
beforeEach(async () => {
  for (const table of [
    'work',
    'notifications',
    'notification_counts',
    'deliveries',
    'gateway_answers',
    'day_counts',
    'processes',
  ])
    await database.change(sql`delete from ${sql.raw(table)}`)
})

const createdAt = new Date(Date.now() - 1_000)

/** A notification with a block of work that this process holds. */
async function block(devices: readonly number[]) {
  const { insertId: no } = await database.change(
    sql`insert into notifications (id, app_no, environment, state, target, content, urgency, mode, ttl_seconds, sent_by,
       request_hash, expanded, created_at, expires_at, changed_at) values (${uuidBuffer(uuidV7(Date.now(), randomBytes(10)))}, ${scope.app.no}, ${'development'}, ${'sending'}, ${'{}'}, ${'{}'}, ${1}, ${'show'}, ${60}, ${'test'}, ${Buffer.alloc(32)}, ${devices.length}, ${createdAt}, ${new Date(Date.now() + 60_000)}, ${createdAt})`,
  )
  const { insertId: work } = await database.change(
    sql`insert into work (kind, app_no, environment, subject_no, urgency, due_at, leased_until, fence, size, body)
        values ('send', ${scope.app.no}, 'development', ${no}, 1, now(3), now(3) + interval 1 minute, 1, ${devices.length}, ${Buffer.from(packBlock(devices))})`,
  )
  return {
    no: work,
    fence: 1,
    appNo: scope.app.no,
    notificationNo: no,
    urgency: 1,
    environment: 'development',
    createdAt,
    channelNo: 0,
    aheadMs: 0,
    kind: 'send',
    failures: 0,
    cause: undefined,
    devices,
  } as const
}

const ended = (deviceNo: number, more: Partial<Ended> = {}): Ended => ({
  deviceNo,
  platform: 'ios',
  state: 'accepted',
  attempts: 1,
  atMs: Date.now(),
  ...more,
})
/** Takes a notification back. @returns whom its wake has come to reach so far, and how far that is */
async function takeBack(no: number) {
  const wake = newNotification({ mode: 'wake', urgency: 'high' })
  await withdrawNotification(database, scope, { no }, await begin(database, scope, wake))
  return async () => {
    const { no: wakeNo, state, expanded } = (await findNotification(database, scope, wake.id))!
    const blocks = await workOf(database, wakeNo, 'send')
    return { state, expanded, devices: blocks.flatMap(({ body }) => unpackBlock(body!)) }
  }
}
const all = (count: number) => Array.from({ length: count }, (_, i) => i + 1)
const none = { remaining: [], retries: [] }
/** The work of a kind, whatever else is due. */
async function claimOnly(kind: string): Promise<Claim> {
  await database.change(sql`update work set due_at = utc_timestamp(3), suspended = kind <> ${kind}`)
  const work = await claimNext(database, leaseMs)
  await database.change(sql`update work set suspended = false`)
  if (work?.kind !== kind) throw new Error(`${kind} was wanted, and ${work?.kind} came`)
  return work
}

describe('what a gateway answered', () => {
  const answer = (more: Partial<GatewayAnswer> = {}): GatewayAnswer => ({
    gateway: 'https://gateway.example',
    credential: 'signing-key 0011',
    status: 200,
    says: '',
    ...more,
  })
  const kept = () => database.rows<{ says: string }>(sql`select says from gateway_answers order by says`)

  test('is kept once for all devices that got the same, and is each one’s own', async () => {
    const claim = await block(all(4))
    const gone = answer({ status: 410, says: '{"why":"gone"}' })
    const outcomes = [
      ...all(3).map((no) => ended(no, { answer: answer() })),
      ended(4, { state: 'refused', reason: 'token-gone', answer: gone }),
    ]
    expect(await storeOutcomes(database, claim, { ...none, ended: outcomes }, leaseMs)).toBe(true)
    expect(await kept()).toHaveLength(2)
    expect(await gatewayAnswer(database, claim.notificationNo, 2)).toEqual(answer())
    expect(await gatewayAnswer(database, claim.notificationNo, 4)).toEqual(gone)
    expect(await gatewayAnswer(database, claim.notificationNo, 5)).toBeUndefined()
  })

  test('is cut short when a gateway says something else each time', async () => {
    const claim = await block(all(300))
    const outcomes = all(300).map((no) =>
      ended(no, { state: 'refused', reason: 'bad-request', answer: answer({ status: 400, says: `no ${no}` }) }),
    )
    await storeOutcomes(database, claim, { ...none, ended: outcomes }, leaseMs)
    expect((await kept()).length).toBeLessThanOrEqual(51)
    expect((await gatewayAnswer(database, claim.notificationNo, 1))?.says).toBe('no 1')
    expect(await gatewayAnswer(database, claim.notificationNo, 300)).toMatchObject({ status: 400, says: '' })
  })
})

describe('days', () => {
  test('add up whoever counts at the same time', async () => {
    const one = fc.record({
      platform: fc.integer({ min: 0, max: platforms.length - 1 }),
      state: fc.constantFrom('accepted', 'shown', 'opened', 'refused' as const),
      reason: fc.constantFrom(0, reasons['token-gone'].code),
      durationMs: fc.integer({ min: 0, max: 100_000 }),
    })
    const batch = fc.array(one, { minLength: 1, maxLength: 30 })
    await fc.assert(
      fc.asyncProperty(fc.array(batch, { minLength: 1, maxLength: 6 }), async (batches) => {
        await database.change(sql`delete from day_counts`)
        await Promise.all(
          batches.map((entries) =>
            database.transact(async (tx) => {
              const days = new DayCounts()
              for (const { platform, state, reason, durationMs } of entries)
                days.add(platform, state, reason, durationMs)
              await days.store(tx, { appNo: scope.app.no, environment: 'development', channelNo: 0 })
            }),
          ),
        )
        const rows = await readDays(database, scope, 1)
        for (const state of ['accepted', 'shown', 'opened', 'refused'] as const) {
          const wanted = batches.flat().filter((entry) => entry.state === state).length
          const found = rows.filter((row) => row.state === state).reduce((sum, { count }) => sum + count, 0)
          expect(found).toBe(wanted)
        }
      }),
      { numRuns: 25 },
    )
  })

  test('are forgotten after their time, and no sooner', async () => {
    for (const ago of [0, 5, 800])
      await database.change(
        sql`insert into day_counts values (${scope.app.no}, 'development', utc_date() - interval ${ago} day, 0, 0, ${deliveryStates.accepted}, 0, 3, 7, 0)`,
      )
    await pruneDays(database, 760)
    expect((await readDays(database, scope, 1_000)).map(({ count }) => count)).toEqual([7, 7])
    expect(await readDays(database, scope, 3)).toHaveLength(1)
    expect(await readDays(database, { ...scope, environment: 'production' }, 3)).toEqual([])
  })
})

describe('taking back', () => {
  const withdrawn = async (no: number) => (await countDeliveries(database, no)).states.get('withdrawn') ?? 0

  test('is work that is claimed, marks what was not opened, and leaves the totals true', async () => {
    const claim = await block(all(5))
    await storeOutcomes(database, claim, { ...none, ended: all(5).map((no) => ended(no)) }, leaseMs)
    const { notificationNo } = claim
    await database.change(
      sql`update deliveries set state = ${deliveryStates.opened} where notification_no = ${notificationNo} and device_no = 5`,
    )
    await database.change(
      sql`update notification_counts set count = 4 where notification_no = ${notificationNo} and state = ${deliveryStates.accepted}`,
    )
    await database.change(
      sql`insert into notification_counts values (${notificationNo}, 0, ${deliveryStates.opened}, 0, 1)`,
    )
    const woken = await takeBack(notificationNo)
    expect(await withdrawn(notificationNo)).toBe(0)
    const work = await claimNext(database, leaseMs)
    expect(work).toMatchObject({ kind: 'withdraw', notificationNo, environment: 'development' })
    expect(await withdrawPage(database, work!, 0, leaseMs)).toEqual({ is: 'done' })
    const { states } = await countDeliveries(database, notificationNo)
    expect([states.get('withdrawn'), states.get('opened'), states.get('accepted') ?? 0]).toEqual([4, 1, 0])
    expect(await database.rows(sql`select kind from work`)).toEqual([{ kind: 'send' }])
    expect(await woken()).toEqual({ state: 'sending', expanded: 5, devices: all(5) })
    expect((await readDays(database, scope, 1)).find(({ state }) => state === 'withdrawn')?.count).toBe(4)
  })

  test('is done whole or not at all: marked, its queue ended, and those who have it woken', async () => {
    const claim = await block(all(2))
    const wake = newNotification({ mode: 'wake', urgency: 'high' })
    const state = () =>
      database.rows(
        sql`select (select withdrawn_at is not null from notifications where no = ${claim.notificationNo}) as marked,
           (select pause from notifications where no = ${claim.notificationNo}) as pause,
           (select count(*) from work where kind = 'withdraw') as marking,
           (select count(*) from notifications where mode = 'wake') as waking`,
      )
    // The last of its statements cannot be carried out.
    await database.change(sql`alter table work modify column kind enum('send','expand') not null`)
    await expect(
      withdrawNotification(database, scope, { no: claim.notificationNo }, await begin(database, scope, wake)),
    ).rejects.toThrow()
    expect(await state()).toEqual([{ marked: 0, pause: 0, marking: 0, waking: 0 }])
    await database.change(sql`alter table work modify column kind enum('expand','send','withdraw') not null`)
    await withdrawNotification(database, scope, { no: claim.notificationNo }, await begin(database, scope, wake))
    expect(await state()).toEqual([{ marked: 1, pause: 2, marking: 1, waking: 1 }])
  })

  test('waits for what is still being sent, and tells what is accepted until then', async () => {
    const claim = await block(all(4))
    const { notificationNo } = claim
    await storeOutcomes(database, claim, { retries: [], ended: [ended(1)], remaining: [2, 3, 4] }, leaseMs)
    const woken = await takeBack(notificationNo)
    const pass = async () => {
      await withdrawPage(database, await claimOnly('withdraw'), 0, leaseMs)
      return woken()
    }
    expect(await pass()).toEqual({ state: 'expanding', expanded: 1, devices: [1] })
    expect(await pass()).toEqual({ state: 'expanding', expanded: 1, devices: [1] })
    // These were on their way when it was taken back; for the last it was too late.
    const late = [ended(2), ended(3), ended(4, { state: 'withdrawn', reason: 'cancelled', attempts: 0 })]
    await storeOutcomes(database, claim, { ...none, ended: late }, leaseMs)
    expect((await findNotificationByNo(database, notificationNo))!.state).not.toBe('finished')
    expect(await pass()).toEqual({ state: 'sending', expanded: 3, devices: [1, 2, 3] })
    expect(await withdrawn(notificationNo)).toBe(4)
    const { reasons: why } = await countDeliveries(database, notificationNo)
    expect([why.get('taken-back'), why.get('cancelled')]).toEqual([3, 1])
  })

  test('tells devices of a process that died while it sent to them', async () => {
    const { notificationNo } = await block([1, 2])
    const woken = await takeBack(notificationNo)
    await database.change(sql`update work set leased_until = utc_timestamp(3) - interval 1 second where kind = 'send'`)
    const second = await claimOnly('send')
    if (second.kind !== 'send') throw new Error('a block was wanted')
    // It was tried once, so nobody knows whether these show it.
    expect(second).toMatchObject({ failures: 1, devices: [1, 2] })
    const unknown = [1, 2].map((no) =>
      ended(no, { state: 'withdrawn', reason: 'cancelled', attempts: second.failures }),
    )
    await storeOutcomes(database, second, { ...none, ended: unknown }, leaseMs)
    await withdrawPage(database, await claimOnly('withdraw'), 0, leaseMs)
    expect(await woken()).toEqual({ state: 'sending', expanded: 2, devices: [1, 2] })
  })

  test('by a claim that was lost changes nothing', async () => {
    const claim = await block(all(2))
    await storeOutcomes(database, claim, { ...none, ended: all(2).map((no) => ended(no)) }, leaseMs)
    await takeBack(claim.notificationNo)
    const first = await claimNext(database, leaseMs)
    await database.change(sql`update work set leased_until = utc_timestamp(3) - interval 1 second`)
    const second = await claimNext(database, leaseMs)
    expect(await withdrawPage(database, first!, 0, leaseMs)).toEqual({ is: 'lost' })
    expect(await withdrawn(claim.notificationNo)).toBe(0)
    expect(await withdrawPage(database, second!, 0, leaseMs)).toEqual({ is: 'done' })
    expect(await withdrawn(claim.notificationNo)).toBe(2)
  })
})

describe('processes', () => {
  const report: ProcessReport = {
    host: 'harbour',
    pid: 7,
    does: 'worker',
    memoryMb: 100,
    devicesPerSecond: null,
    gateways: [],
  }

  test('are there for as long as they say so', async () => {
    const id = uuidV7(Date.now(), randomBytes(10))
    await reportProcess(database, id, report)
    await reportProcess(database, id, { ...report, memoryMb: 120 })
    expect(await listProcesses(database)).toMatchObject([{ id, pid: 7, memoryMb: 120, gateways: [] }])
    await database.change(sql`update processes set seen_at = seen_at - interval 30 second`)
    expect(await listProcesses(database)).toEqual([])
    await pruneSilent(database)
    expect(await database.rows(sql`select 1 from processes`)).toHaveLength(1)
    await database.change(sql`update processes set seen_at = seen_at - interval 2 hour`)
    await pruneSilent(database)
    expect(await database.rows(sql`select 1 from processes`)).toEqual([])
  })
})

describe('a database without room', () => {
  test('says so as what it is, so that whoever can wait does', async () => {
    // A table that lives in memory meets its limit as a table on a full disk does: with the same error of the server.
    await database.change(
      sql`set statement max_heap_table_size = 16384 for create table crowded (text varchar(1000)) engine = memory`,
    )
    const fill = async () => {
      for (let i = 0; i < 1_000; i++) await database.change(sql`insert into crowded values (${'x'.repeat(1_000)})`)
    }
    await expect(fill()).rejects.toBeInstanceOf(DatabaseFull)
    await database.change(sql`drop table crowded`)
  })

  test.each(['ER_DISK_FULL', 'ER_RECORD_FILE_FULL', 'ER_ERROR_ON_WRITE'])(
    '%s is that, and is worth waiting for',
    (code) => {
      const error = translateError(Object.assign(new Error('what was to be stored'), { code }))
      expect(error).toBeInstanceOf(DatabaseFull)
      expect(error).toBeInstanceOf(DatabaseUnavailable)
      expect((error as Error).message).not.toContain('what was to be stored')
    },
  )
})
