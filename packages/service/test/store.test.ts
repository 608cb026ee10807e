import { randomBytes } from 'node:crypto'
import { afterAll, beforeAll, beforeEach, describe, expect, test } from '@jest/globals'
import { blockSize, type Target, uuidV7 } from '@zbell/core'
import { sql } from 'drizzle-orm'
import type { Database } from '../src/database/database.ts'
import type { Scope } from '../src/database/scope.ts'
import { countDeliveries } from '../src/deliveries/store/counts.ts'
import { listDeliveries } from '../src/deliveries/store/list-deliveries.ts'
import { pruneDeliveries } from '../src/deliveries/store/prune-deliveries.ts'
import { storeOutcomes } from '../src/deliveries/store/store-outcomes.ts'
import { storeReceipts } from '../src/deliveries/store/store-receipts.ts'
import { findDevicesBySecrets, listDevices } from '../src/devices/store/read-devices.ts'
import { registerDevice } from '../src/devices/store/register-device.ts'
import type { Claim, Ended } from '../src/engine/work.ts'
import { findNotification } from '../src/notifications/store/read-notifications.ts'
import { extend, release } from '../src/queue/lease.ts'
import { expandPage } from '../src/sending/store/expand-page.ts'
import { type Scratch, scratchApp } from './scratch-database.ts'
import { claimNext, createNotification, newNotification } from './scratch-notification.ts'

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
    'deliveries',
    'early_receipts',
    'devices',
    'device_tokens',
    'device_events',
    'users',
  ])
    await database.change(sql`delete from ${sql.raw(table)}`)
})

const fresh = () => uuidV7(Date.now(), randomBytes(10))

async function register(token: string, user: string | null = null, shownHash: Buffer | null = null) {
  const secretHash = shownHash ?? randomBytes(32)
  const address = { token, tokenHash: Buffer.from(token.padEnd(32).slice(0, 32)), p256dh: null, auth: null }
  const facts = {
    permission: 'granted' as const,
    muted: false,
    user,
    allows: null,
    installation: null,
    locale: null,
    timeZone: null,
    appVersion: null,
    systemVersion: null,
    model: null,
  }
  await registerDevice(database, scope, {
    id: fresh(),
    platform: 'ios',
    address,
    secretHash,
    shownHash,
    ...facts,
  })
  return (await findDevicesBySecrets(database, [secretHash]))[0]!.device
}

/** Many devices at once, straight into the table. */
async function fleet(count: number): Promise<number[]> {
  const rows = Array.from(
    { length: count },
    (_, i) =>
      `(${randomId()}, ${scope.app.no}, 'development', 'ios', 'token-${i}', ${randomId(32)}, ${randomId(32)}, 'granted', 0, now(), now(), now())`,
  )
  await database.change(
    sql`insert into devices (id, app_no, environment, platform, token, token_hash, secret_hash, permission, muted, registered_at, seen_at, changed_at) values ${sql.raw(rows.join(','))}`,
  )
  return (await database.rows<{ no: number }>(sql`select no from devices order by no`)).map(({ no }) => no)
}
const randomId = (bytes = 16) => `x'${randomBytes(bytes).toString('hex')}'`

async function notify(
  target: Target = { any: ['everyone'] },
  urgency: 'normal' | 'high' = 'normal',
  idempotencyHash: Buffer | null = null,
) {
  const request = newNotification({ id: fresh(), target, urgency, idempotencyHash })
  const created = await createNotification(database, scope, request, { leaseMs: 0 })
  return { id: request.id, created, row: async () => (await findNotification(database, scope, request.id))! }
}

async function claimed(): Promise<Claim> {
  const claim = await claimNext(database, leaseMs)
  if (!claim) throw new Error('there is no work')
  return claim
}

async function claimedBlock() {
  const claim = await claimed()
  if (claim.kind !== 'send') throw new Error('a block was wanted')
  return claim
}

const accepted = (deviceNo: number): Ended => ({
  deviceNo,
  platform: 'ios',
  state: 'accepted',
  attempts: 1,
  gatewayReference: 'ref-1',
  atMs: Date.now(),
})
const none = { ended: [], remaining: [], retries: [] }
const lapse = () => database.change(sql`update work set leased_until = null, due_at = utc_timestamp(3)`)

describe('registering', () => {
  test('one token is one device, however often and however fast it comes', async () => {
    const outcomes = await Promise.allSettled(
      Array.from({ length: 20 }, (_, i) => register('the-same-token', i % 2 ? 'ada' : 'signe')),
    )
    expect(outcomes.filter(({ status }) => status === 'fulfilled')).toHaveLength(1)
    expect(await listDevices(database, scope, { limit: 50 })).toHaveLength(1)
  })
  test('a retired device comes back', async () => {
    const device = await register('gone-and-back')
    await database.change(
      sql`update devices set retired_at = now(), retired_reason = 'token-gone' where no = ${device.no}`,
    )
    expect((await register('gone-and-back', null, device.secretHash)).no).toBe(device.no)
    expect((await listDevices(database, scope, { limit: 5 }))[0]).toMatchObject({
      retiredAt: null,
      retiredReason: null,
    })
  })
})

describe('expansion', () => {
  test('finds each device once, however many references name it, and nobody else’s', async () => {
    const [a, b] = [await register('token-a', 'ada'), await register('token-b', 'ada')]
    await register('token-c', 'signe')
    const { row } = await notify({ any: ['user:ada', `device:${a.id}`, 'user:ada'] })
    expect((await claimedBlock()).devices).toEqual([a.no, b.no])
    expect(await row()).toMatchObject({ expanded: 2, state: 'sending' })
  })
  test('goes on after a crash where the last page ended', async () => {
    const numbers = await fleet(5 * blockSize + 5)
    const { row } = await notify()
    expect(await expandPage(database, await claimed(), await row(), leaseMs)).toBe('more')
    await lapse()
    const again = await database.rows<{ no: number }>(sql`select no from work where kind = 'expand'`)
    expect(again).toHaveLength(1)
    const claims = await Promise.all(Array.from({ length: 6 }, claimed))
    const rest = claims.find(({ kind }) => kind === 'expand')!
    expect(await expandPage(database, rest, await row(), leaseMs)).toBe('done')
    await lapse()
    const blocks: number[][] = []
    for (let i = 0; i < 6; i++) blocks.push([...(await claimedBlock()).devices])
    expect(blocks.flat().sort((x, y) => x - y)).toEqual(numbers)
    expect((await row()).expanded).toBe(5 * blockSize + 5)
  })
  test('a target without devices finishes at once', async () => {
    const { row } = await notify()
    await expandPage(database, await claimed(), await row(), leaseMs)
    expect(await row()).toMatchObject({ state: 'finished', expanded: 0 })
  })
})

describe('claims', () => {
  test('two workers never pause the same work', async () => {
    for (let i = 0; i < 10; i++) await notify()
    const claims = await Promise.all(Array.from({ length: 16 }, () => claimNext(database, leaseMs)))
    const held = claims.flatMap((claim) => (claim ? [claim.no] : []))
    expect(new Set(held).size).toBe(held.length)
    for (let claim = await claimNext(database, leaseMs); claim; claim = await claimNext(database, leaseMs))
      held.push(claim.no)
    expect(new Set(held).size).toBe(10)
  })
  test('a worker whose lease ran out does not take its own work from itself', async () => {
    const mine = await notify()
    const { no } = await claimed()
    await lapse()
    expect(await claimNext(database, leaseMs, [no])).toBeUndefined()
    const other = await notify()
    expect((await claimNext(database, leaseMs, [no]))?.notificationNo).toBe((await other.row()).no)
    expect((await claimNext(database, leaseMs))?.notificationNo).toBe((await mine.row()).no)
  })
  test('urgency overtakes', async () => {
    await notify()
    const urgent = await notify({ any: ['everyone'] }, 'high')
    expect((await claimed()).notificationNo).toBe((await urgent.row()).no)
  })
  test('a worker that lost its lease stores nothing', async () => {
    const [no] = await fleet(1)
    const { row } = await notify()
    await expandPage(database, await claimed(), await row(), leaseMs)
    const stale = await claimedBlock()
    await lapse()
    const current = await claimedBlock()
    expect(await storeOutcomes(database, stale, { ...none, ended: [accepted(no!)] }, leaseMs)).toBe(false)
    expect(await extend(database, stale, leaseMs)).toBe(false)
    await release(database, stale, { afterMs: 0 })
    expect((await countDeliveries(database, (await row()).no)).states.size).toBe(0)
    expect(await storeOutcomes(database, current, { ...none, ended: [accepted(no!)] }, leaseMs)).toBe(true)
    expect((await row()).state).toBe('finished')
  })
})

describe('outcomes', () => {
  async function block(count: number) {
    const numbers = await fleet(count)
    const notification = await notify()
    await expandPage(database, await claimed(), await notification.row(), leaseMs)
    return { numbers, notification, claim: await claimedBlock() }
  }

  test('a device is in a block or in a row, at every moment, and the totals add up', async () => {
    const { numbers, notification, claim } = await block(6)
    const [first, second, ...others] = numbers as [number, number, ...number[]]
    await storeOutcomes(
      database,
      claim,
      { ended: [accepted(first)], remaining: numbers.slice(1), retries: [] },
      leaseMs,
    )
    const row = await notification.row()
    const page = await listDeliveries(database, row, { limit: 10 })
    expect(page.map(({ deviceNo, state }) => [deviceNo, state])).toEqual(
      numbers.map((no, i) => [no, i === 0 ? 'accepted' : 'queued']),
    )
    expect(row).toMatchObject({ state: 'sending', expanded: 6 })
    const gone: Ended = {
      deviceNo: second,
      platform: 'ios',
      state: 'refused',
      reason: 'token-gone',
      attempts: 1,
      atMs: Date.now(),
    }
    const retry = { devices: others, failures: 1, cause: 'gateway-busy', afterMs: 60_000 } as const
    await storeOutcomes(database, claim, { ended: [gone], remaining: [], retries: [retry] }, leaseMs)
    expect(await claimNext(database, leaseMs)).toBeUndefined()
    expect(
      (await listDeliveries(database, row, { limit: 10, state: 'queued' })).map(({ deviceNo, attempts }) => [
        deviceNo,
        attempts,
      ]),
    ).toEqual(others.map((no) => [no, 1]))
    expect(
      (await listDevices(database, scope, { limit: 10 }))
        .filter(({ retiredReason }) => retiredReason === 'token-gone')
        .map(({ no }) => no),
    ).toEqual([second])
    await lapse()
    const again = await claimedBlock()
    expect(again).toMatchObject({ failures: 1, cause: 'gateway-busy', devices: others })
    await storeOutcomes(database, again, { ...none, ended: others.map(accepted) }, leaseMs)
    expect(await notification.row()).toMatchObject({ state: 'finished' })
    expect(Object.fromEntries((await countDeliveries(database, row.no)).states)).toEqual({ accepted: 5, refused: 1 })
  })

  test('pages run in device order through rows and blocks alike', async () => {
    const { numbers, notification, claim } = await block(7)
    await storeOutcomes(
      database,
      claim,
      {
        ended: numbers.filter((_, i) => i % 2).map(accepted),
        remaining: numbers.filter((_, i) => i % 2 === 0),
        retries: [],
      },
      leaseMs,
    )
    const seen: number[] = []
    for (let after: string | undefined; ; after = String(seen.at(-1))) {
      const page = await listDeliveries(database, await notification.row(), { limit: 3, after })
      seen.push(...page.map(({ deviceNo }) => deviceNo))
      if (page.length < 3) break
    }
    expect(seen).toEqual(numbers)
  })

  test('a receipt that comes before the outcome is taken in by it', async () => {
    const { numbers, notification, claim } = await block(2)
    const receipt = (deviceNo: number, state: 'received' | 'shown' | 'opened', at = new Date()) => ({
      appNo: scope.app.no,
      environment: 'development',
      deviceNo,
      notification: notification.id,
      state,
      at,
      action: state === 'opened' ? 'details' : null,
      appState: null,
      became: null,
    })
    const [first, second] = numbers as [number, number]
    expect(await storeReceipts(database, [receipt(first, 'received'), receipt(first, 'opened')])).toEqual([true, true])
    await storeOutcomes(database, claim, { ...none, ended: numbers.map(accepted) }, leaseMs)
    expect(
      await storeReceipts(database, [receipt(second, 'shown', new Date('2126-01-01')), receipt(first, 'received')]),
    ).toEqual([true, true])
    const page = await listDeliveries(database, await notification.row(), { limit: 5 })
    expect(page.map(({ state, action }) => [state, action])).toEqual([
      ['opened', 'details'],
      ['shown', null],
    ])
    expect(page[1]!.moments.shown!.getTime()).toBeLessThanOrEqual(Date.now() + 1_000)
    expect(await database.rows(sql`select * from early_receipts`)).toEqual([])
  })

  test('receipts for what never was, or for another app, are not taken', async () => {
    const { numbers, notification, claim } = await block(1)
    await storeOutcomes(database, claim, { ...none, ended: numbers.map(accepted) }, leaseMs)
    const receipt = {
      appNo: scope.app.no,
      environment: 'development',
      deviceNo: numbers[0]!,
      notification: notification.id,
      state: 'shown' as const,
      at: new Date(),
      action: null,
      appState: null,
      became: null,
    }
    expect(
      await storeReceipts(database, [
        { ...receipt, notification: fresh() },
        { ...receipt, appNo: 99 },
        { ...receipt, deviceNo: 123_456 },
      ]),
    ).toEqual([false, false, false])
  })
})

test('an Idempotency-Key makes one notification of many calls', async () => {
  const key = randomBytes(32)
  const made = await Promise.all(Array.from({ length: 8 }, () => notify({ any: ['everyone'] }, 'normal', key)))
  expect(made.filter(({ created }) => created.is === 'created')).toHaveLength(1)
  expect(await database.rows(sql`select no from notifications`)).toHaveLength(1)
})

describe('old deliveries', () => {
  test('are pruned to their totals, by one process at a time, and young ones stay', async () => {
    const numbers = await fleet(5)
    const ended = async () => {
      const { row } = await notify()
      await expandPage(database, await claimed(), await row(), leaseMs)
      await storeOutcomes(
        database,
        await claimedBlock(),
        { ended: numbers.map(accepted), remaining: [], retries: [] },
        leaseMs,
      )
      return row
    }
    const [old, young] = [await ended(), await ended()]
    await database.change(
      sql`update notifications set finished_at = utc_timestamp() - interval 91 day where no = ${(await old()).no}`,
    )
    expect(await pruneDeliveries(database, 90, () => true)).toBe(1)
    const left = async (no: number) =>
      (await database.rows(sql`select 1 from deliveries where notification_no = ${no}`)).length
    expect([await left((await old()).no), await left((await young()).no)]).toEqual([0, 5])
    expect((await old()).prunedAt).not.toBeNull()
    expect((await countDeliveries(database, (await old()).no)).states.get('accepted')).toBe(5)
  })
})

describe('totals', () => {
  test('stay true when the answer to a commit was lost and the same outcomes come again', async () => {
    const numbers = await fleet(4)
    const { row } = await notify()
    await expandPage(database, await claimed(), await row(), leaseMs)
    const claim = await claimedBlock()
    const some = { ended: numbers.slice(0, 2).map(accepted), remaining: numbers.slice(2), retries: [] }
    expect(await storeOutcomes(database, claim, some, leaseMs)).toBe(true)
    expect(await storeOutcomes(database, claim, some, leaseMs, { again: true })).toBe(true)
    const { no } = await row()
    expect((await countDeliveries(database, no)).states.get('accepted')).toBe(2)
  })
})
