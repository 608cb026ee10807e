import { afterAll, beforeAll, beforeEach, describe, expect, test } from '@jest/globals'
import { sql } from 'drizzle-orm'
import type { Database } from '../src/database/database.ts'
import { claim } from '../src/queue/claim.ts'
import { enqueue, type NewWork } from '../src/queue/enqueue.ts'
import { FairQueue } from '../src/queue/fair-queue.ts'
import { extend, finish, release } from '../src/queue/lease.ts'
import { hasWork, readQueue, workOf } from '../src/queue/read-queue.ts'
import { changeUrgency, makeDue, resume, suspend, wake } from '../src/queue/suspend.ts'
import { type Scratch, scratchApp } from './scratch-database.ts'
import { claimNext } from './scratch-notification.ts'

const leaseMs = 60_000
let scratch: Scratch
let database: Database
beforeAll(async () => {
  ;({ scratch, database } = await scratchApp())
})
afterAll(() => scratch.close())
beforeEach(() => database.change(sql`delete from work`))

const own = { appNo: 1, environment: 'development' } as const
const put = (subjectNo: number, more: Partial<NewWork> = {}) =>
  enqueue(database, subjectNo, [{ ...own, kind: 'survey', urgency: 1, ...more }])
const take = (more: { held?: readonly number[]; least?: number } = {}) =>
  claim(database, { leaseMs, fair: new FairQueue(), ...more })
const dueIn = async () =>
  (
    await database.rows<{ s: number }>(
      sql`select round(timestampdiff(microsecond, utc_timestamp(3), due_at) / 1e6) as s from work order by no`,
    )
  ).map(({ s }) => Number(s))

describe('the queue', () => {
  test('knows work of any kind, and hands its body on as it came', async () => {
    const body = Buffer.from('the ferry is late')
    await put(7, { body, size: 3, failures: 2, cause: 5 })
    expect(await take()).toMatchObject({ ...own, kind: 'survey', subjectNo: 7, body, size: 3, failures: 2, cause: 5 })
  })

  test('hands out each piece once, the most urgent first', async () => {
    await put(1, { urgency: 1 })
    await put(2, { urgency: 3 })
    expect([(await take())?.subjectNo, (await take())?.subjectNo, await take()]).toEqual([2, 1, undefined])
  })

  test('gives a turn to each of more apps than are looked at for one, and to each subject of an app', async () => {
    await database.change(sql`delete from apps where no > 1`)
    const apps = Array.from({ length: 230 }, (_, i) => 1_000 + i)
    for (const no of apps)
      await database.change(
        sql`insert into apps (no, slug, name, identifiers, created_at) values (${no}, ${`app-${no}`}, 'x', '{}', utc_timestamp(3))`,
      )
    for (const appNo of apps) for (const one of [1, 2]) await put(appNo * 10 + one, { appNo })
    const fair = new FairQueue()
    const served = new Set<number>()
    for (let i = 0; i < apps.length; i++) served.add((await claim(database, { leaseMs, fair }))!.appNo)
    expect(served.size).toBe(apps.length)
    await database.change(sql`delete from apps where no > 1`)
  })

  test('keeps for its maker what was made held', async () => {
    await put(1, { heldMs: leaseMs })
    expect(await take()).toBeUndefined()
    expect(await hasWork(database, 1, 'held')).toBe(true)
  })

  test('hands out nothing before its time, and nothing of least urgency where more is asked', async () => {
    await put(1, { due: { afterMs: 60_000 } })
    await put(2, { due: new Date(Date.now() + 60_000) })
    await put(3, { urgency: 0 })
    expect(await take({ least: 1 })).toBeUndefined()
    expect((await take())?.subjectNo).toBe(3)
  })

  test('hands out anew what a dead worker held, but not to one that holds it still', async () => {
    await put(1)
    const first = (await take())!
    await database.change(sql`update work set leased_until = utc_timestamp(3)`)
    expect(await take({ held: [first.no] })).toBeUndefined()
    const second = (await take())!
    expect(second.fence).toBe(first.fence + 1)
  })

  test('takes no word from whoever lost the lease', async () => {
    await put(1)
    const { no, fence } = (await take())!
    const stale = { no, fence: fence - 1 }
    expect(await extend(database, stale, leaseMs)).toBe(false)
    expect(await release(database, stale, { afterMs: 0 })).toBe(false)
    expect(await release(database, stale, 'suspended')).toBe(false)
    expect(await finish(database, stale)).toBe(false)
    expect(await finish(database, { no, fence })).toBe(true)
    expect(await hasWork(database, 1)).toBe(false)
  })

  test('keeps what is left when its holder says so', async () => {
    await put(1, { body: Buffer.from('whole'), size: 5 })
    const held = (await take())!
    expect(await extend(database, held, leaseMs, { body: Buffer.from('half'), size: 2 })).toBe(true)
    expect(await workOf(database, 1, 'survey')).toMatchObject([{ body: Buffer.from('half'), failures: 0 }])
  })
})

describe('suspended work', () => {
  test('is not handed out, and is due when it was once it goes on', async () => {
    await put(1, { due: { afterMs: 3_600_000 } })
    await put(1)
    await suspend(database, 1)
    expect(await take()).toBeUndefined()
    await resume(database, 1)
    const [later, now] = await dueIn()
    expect(later).toBeGreaterThan(3_500)
    expect(now).toBeLessThanOrEqual(0)
    expect(await take()).toBeDefined()
  })

  test('can be made so; what somebody holds is released as such by its holder, with the due time that it had', async () => {
    await put(1, { suspended: true })
    await put(2)
    const held = (await take())!
    await suspend(database, 2)
    expect(await database.rows(sql`select suspended from work order by no`)).toEqual([
      { suspended: 1 },
      { suspended: 0 },
    ])
    expect(await release(database, held, 'suspended')).toBe(true)
    expect(await take()).toBeUndefined()
    await resume(database, 2)
    expect((await take())?.subjectNo).toBe(2)
  })

  test('comes at once when all of its subject is to end', async () => {
    await put(1, { suspended: true, due: { afterMs: 3_600_000 } })
    await makeDue(database, 1)
    expect(await take()).toBeDefined()
  })
})

test('what waits for a cause is woken by it, in its own app and environment only, and unless it is suspended', async () => {
  const waits = { cause: 4, due: { afterMs: 3_600_000 } }
  await put(1, waits)
  await put(2, { ...waits, cause: 5 })
  await put(3, { ...waits, environment: 'production' })
  await put(4, { ...waits, appNo: 2 })
  await put(5, { ...waits, suspended: true })
  await wake(database, { ...own, cause: 4 })
  expect((await take())?.subjectNo).toBe(1)
  expect(await take()).toBeUndefined()
})

test('an urgency that is changed counts from the next claim on', async () => {
  await put(1)
  await put(2)
  await changeUrgency(database, 2, 3)
  expect((await take())?.subjectNo).toBe(2)
})

test('a look at the queue says what is due, what waits and what is suspended, in parts', async () => {
  await put(1, { size: 10 })
  await put(2, { size: 20, due: { afterMs: 3_600_000 } })
  await put(3, { size: 30, suspended: true })
  await put(4, { size: 40, kind: 'other' })
  await take()
  const state = await readQueue(database, { ...own, kind: 'survey' })
  expect(state).toEqual({ due: 10, later: 20, suspended: 30, dueSubjects: [1] })
})

test('work that nobody here can read is put back for a while, and holds up nothing else', async () => {
  await put(1, { kind: 'survey' })
  await expect(claimNext(database, leaseMs)).rejects.toThrow('notification that is not there')
  expect(await hasWork(database, 1, 'held')).toBe(false)
  expect(await claimNext(database, leaseMs)).toBeUndefined()
  expect((await dueIn())[0]).toBeGreaterThan(0)
})
