import { afterAll, beforeAll, beforeEach, describe, expect, test } from '@jest/globals'
import { notificationRequest } from '@zbell/contract'
import type { When } from '@zbell/core/calendar'
import { type SQL, sql } from 'drizzle-orm'
import { makeLog } from '../src/base/log.ts'
import { Database } from '../src/database/database.ts'
import { databaseTime } from '../src/database/database-time.ts'
import { freePort } from '../src/database/private/private-server.ts'
import { Signals } from '../src/engine/signals.ts'
import { Intake } from '../src/notifications/intake.ts'
import { ScheduleClock } from '../src/schedules/clock.ts'
import { Schedules } from '../src/schedules/schedules.ts'
import { listRuns, pruneRuns } from '../src/schedules/store/runs.ts'
import { dueSchedules, scheduleStore } from '../src/schedules/store/schedules.ts'
import { type ScratchApp, scratchApp } from './scratch-database.ts'
import { evaluators } from './scratch-evaluator-pool.ts'

let app: ScratchApp
let schedules: Schedules
let intake: Intake
const log = makeLog('silent')
const where = () => ({ appNo: app.scope.app.no, environment: app.scope.environment })
const notification = notificationRequest.parse({ to: { any: ['everyone'] }, content: { title: 'Evening' } })
const daily: When = { from: '2026-01-01T18:00', zone: 'Europe/Oslo', repeat: 'FREQ=DAILY' }

beforeAll(async () => {
  app = await scratchApp()
  // Nothing is sent here: of intake only its ear for new work is needed, and what cancels.
  const unused = {} as never
  intake = new Intake({
    database: app.database,
    gateways: unused,
    pace: unused,
    keptDays: 0,
    leaseMs: 0,
    signals: new Signals(),
    prepareSoon: async () => undefined,
  })
  schedules = new Schedules(app.database, intake, evaluators, { keptDays: 0, signals: new Signals() })
})
afterAll(() => app?.scratch.close())
beforeEach(async () => {
  for (const table of [sql`schedules`, sql`schedule_runs`, sql`work`, sql`notifications`])
    await app.database.change(sql`delete from ${table}`)
})

const save = (name: string, when: When = daily, graceSeconds = 600) =>
  schedules.save(app.scope, name, { when, notification, graceSeconds, paused: false }, 'test')
/** As if its time had come so long ago. */
const makeDue = (name: string, secondsAgo: number) =>
  app.database.change(
    sql`update schedules set next_at = utc_timestamp(3) - interval ${secondsAgo} second where name = ${name}`,
  )
/** So many more that are like one, each with a next time. */
const multiply = (name: string, count: number, nextAt: SQL) =>
  app.database.change(
    sql`insert into schedules (app_no, environment, name, timing, notification, grace_seconds, paused, next_at, next_id, made_by, changed_at)
        select app_no, environment, concat('more-', seq), timing, notification, grace_seconds, paused, ${nextAt},
          unhex(md5(seq)), made_by, changed_at
        from seq_1_to_100000 straight_join schedules where name = ${name} and seq <= ${count}`,
  )
const settle = async () => {
  await schedules.settle(await dueSchedules(app.database, 1_000))
}
const runsOf = async (name: string) =>
  listRuns(app.database, (await scheduleStore.find(app.database, where(), name))!.no, 100)
const rung = async () =>
  app.database.rows<{ schedule: string; name: string; liveName: string | null; dueAt: Date; expiresAt: Date }>(
    sql`select schedule, name, live_name as liveName, due_at as dueAt, expires_at as expiresAt from notifications order by no`,
  )

describe('the time of a schedule', () => {
  test('is settled with its notification and its next time in one', async () => {
    const { nextId } = await save('evening')
    await makeDue('evening', 2)
    const before = (await scheduleStore.find(app.database, where(), 'evening'))!
    await settle()
    const after = (await scheduleStore.find(app.database, where(), 'evening'))!
    const [run] = await runsOf('evening')
    expect(run).toMatchObject({ state: 'rung', notification: nextId, says: null, dueAt: before.nextAt })
    expect(after.nextAt!.getTime()).toBeGreaterThan(Date.now())
    expect(after.nextId).not.toBe(nextId)
    const [one] = await rung()
    // It bears the schedule’s name, and does not take it: the next run may come while it is under way.
    expect(one).toMatchObject({ schedule: 'evening', name: 'evening', liveName: null, dueAt: before.nextAt })
    expect(one!.expiresAt.getTime() - one!.dueAt.getTime()).toBe(86_400_000)
    const [work] = await app.database.rows(sql`select kind, due_at as dueAt from work`)
    expect(work).toMatchObject({ kind: 'expand', dueAt: before.nextAt })
  })

  test('makes a run that bears the notification’s own name, and waits where that was wished', async () => {
    await schedules.save(
      app.scope,
      'evening',
      { when: daily, notification: { ...notification, name: 'storm', paused: true }, graceSeconds: 600, paused: false },
      'test',
    )
    await makeDue('evening', 1)
    await settle()
    const [one] = await app.database.rows(sql`select name, schedule, pause from notifications`)
    expect(one).toMatchObject({ name: 'storm', schedule: 'evening', pause: 1 })
    const [work] = await app.database.rows(sql`select suspended from work`)
    expect(work).toMatchObject({ suspended: 1 })
  })

  test('is settled once, whoever else looks, and however often', async () => {
    await save('schedule-1')
    await multiply('schedule-1', 59, sql`utc_timestamp(3)`)
    await makeDue('schedule-1', 1)
    const clocks = [1, 2, 3].map(() => new ScheduleClock(app.scratch.another(), schedules, log))
    await Promise.all(clocks.map((clock) => clock.settleDue()))
    await Promise.all(clocks.map((clock) => clock.settleDue()))
    expect(new Set((await rung()).map(({ schedule }) => schedule)).size).toBe(60)
    expect(await rung()).toHaveLength(60)
  })

  test('that was settled before does not ring again when a clock is put back', async () => {
    await save('evening')
    await makeDue('evening', 1)
    const { nextAt } = (await scheduleStore.find(app.database, where(), 'evening'))!
    await settle()
    await app.database.change(sql`update schedules set next_at = ${nextAt}`)
    await settle()
    expect(await rung()).toHaveLength(1)
    expect((await scheduleStore.find(app.database, where(), 'evening'))!.nextAt!.getTime()).toBeGreaterThan(Date.now())
  })

  test('that nothing ran at is rung within its grace, and said as missed beyond it', async () => {
    await save('late', daily, 600)
    await save('missed', daily, 60)
    await makeDue('late', 300)
    await makeDue('missed', 300)
    await settle()
    expect((await runsOf('late')).map(({ state }) => state)).toEqual(['rung'])
    expect((await runsOf('missed')).map(({ state, says }) => [state, says])).toEqual([
      ['missed', 'nothing ran at its time'],
    ])
    expect((await scheduleStore.find(app.database, where(), 'missed'))!.nextAt!.getTime()).toBeGreaterThan(Date.now())
    expect((await rung()).map(({ schedule }) => schedule)).toEqual(['late'])
  })

  test('of a schedule that was away for long is not made up for time by time', async () => {
    await save('often', { from: '2026-01-01T00:00', zone: 'UTC', repeat: 'FREQ=MINUTELY' }, 150)
    await makeDue('often', 7 * 86_400)
    for (let n = 0; n < 6; n++) await settle()
    const states = (await runsOf('often')).map(({ state }) => state)
    expect(states.filter((one) => one === 'missed')).toHaveLength(1)
    expect(states.filter((one) => one === 'rung').length).toBeLessThanOrEqual(3)
  })

  test('at which it cannot be sent is settled as failed, with the reason, and the next comes', async () => {
    await save('evening')
    await app.database.change(
      sql`update schedules set notification = ${JSON.stringify({ ...notification, content: undefined, template: 'gone' })}`,
    )
    await makeDue('evening', 1)
    await settle()
    const [run] = await runsOf('evening')
    expect(run).toMatchObject({ state: 'failed', notification: null })
    expect(run!.says).toMatch(/template/)
    expect((await scheduleStore.find(app.database, where(), 'evening'))!.nextAt!.getTime()).toBeGreaterThan(Date.now())
  })
})

describe('a clock', () => {
  test('goes past a schedule that cannot be settled, and does not wait for it', async () => {
    await save('broken')
    await save('evening')
    // What no request could be: reading it fails, each time.
    await app.database.change(sql`update schedules set notification = '{"to": 7}' where name = 'broken'`)
    await makeDue('broken', 10)
    await makeDue('evening', 1)
    const clock = new ScheduleClock(app.database, schedules, log)
    expect(await clock.settleDue()).toBe(2)
    expect((await runsOf('evening')).map(({ state }) => state)).toEqual(['rung'])
    // It rests, and is nobody’s work until then.
    expect(await clock.settleDue()).toBe(0)
    expect(await runsOf('broken')).toEqual([])
  })

  test('leaves each as it is while the database is away', async () => {
    await save('evening')
    await makeDue('evening', 1)
    const away = new Database({ url: `mysql://bell:x@127.0.0.1:${await freePort()}/bell`, connections: 2 })
    const clock = new ScheduleClock(
      app.database,
      new Schedules(away, intake, evaluators, { keptDays: 0, signals: new Signals() }),
      log,
    )
    // Not set aside as if it were at fault: it is looked at again at once.
    for (const _ of [1, 2]) await expect(clock.settleDue()).rejects.toMatchObject({ name: 'DatabaseUnavailable' })
    expect(await runsOf('evening')).toEqual([])
    await settle()
    expect((await runsOf('evening')).map(({ state }) => state)).toEqual(['rung'])
    await away.close()
  })
})

describe('a schedule', () => {
  test('that rests does not ring, and goes on with what lies ahead', async () => {
    await save('evening')
    await schedules.pause(app.scope, 'evening', true)
    await makeDue('evening', 5)
    await settle()
    expect(await rung()).toEqual([])
    const { nextAt } = await schedules.pause(app.scope, 'evening', false)
    expect(nextAt!.getTime()).toBeGreaterThan(Date.now())
    await settle()
    expect(await rung()).toEqual([])
  })

  test('leaves out a time, also over a rest', async () => {
    const { nextAt } = await save('evening')
    const skipped = await schedules.skip(app.scope, 'evening')
    expect(skipped.nextAt!.getTime() - nextAt!.getTime()).toBe(86_400_000)
    await schedules.pause(app.scope, 'evening', true)
    expect((await schedules.pause(app.scope, 'evening', false)).nextAt).toEqual(skipped.nextAt)
    expect((await runsOf('evening')).map(({ state }) => state)).toEqual(['skipped'])
  })

  test('that was changed or rung meanwhile is not skipped by who had the time before in mind', async () => {
    await save('evening')
    await Promise.all([schedules.skip(app.scope, 'evening'), schedules.skip(app.scope, 'evening')])
    const runs = await runsOf('evening')
    const { nextAt } = (await scheduleStore.find(app.database, where(), 'evening'))!
    expect(new Set(runs.map(({ dueAt }) => dueAt.getTime())).size).toBe(runs.length)
    expect(runs.every(({ dueAt }) => dueAt.getTime() < nextAt!.getTime())).toBe(true)
  })

  test('is over after its last time', async () => {
    const soon = new Date((await databaseTime(app.database)).getTime() + 3_600_000).toISOString()
    await save('once', { at: soon })
    await makeDue('once', 1)
    // Its time is another one now, so that nothing lies ahead of it but that.
    await app.database.change(sql`update schedules set timing = '{"at":"2020-01-01T00:00:00Z"}'`)
    await settle()
    expect((await scheduleStore.find(app.database, where(), 'once'))!.nextAt).toBeNull()
    expect((await schedules.upcoming(app.scope, 14)).items).toEqual([])
  })

  test('counts afterSeconds from when it was saved', async () => {
    const { when, nextAt } = await save('soon', { afterSeconds: 90 })
    expect(when).toEqual({ at: nextAt!.toISOString() })
  })

  test('is cancelled with all others only by their number', async () => {
    await save('one')
    await save('two')
    await expect(schedules.cancelAll(app.scope, 3)).rejects.toMatchObject({ code: 'schedules-changed' })
    expect(await schedules.cancelAll(app.scope, 2)).toBe(2)
    await expect(schedules.require(app.scope, 'one')).rejects.toMatchObject({ code: 'unknown-schedule' })
  })
})

test('runs of long ago are forgotten, the last of each schedule never', async () => {
  const { no } = await save('evening')
  const { no: other } = await save('rare')
  for (const [schedule, daysAgo] of [
    [no, 200],
    [no, 100],
    [no, 1],
    [other, 300],
  ])
    await app.database.change(
      sql`insert into schedule_runs (schedule_no, due_at, state, settled_at)
          values (${schedule}, utc_timestamp(3) - interval ${daysAgo} day, 'rung', utc_timestamp(3) - interval ${daysAgo} day)`,
    )
  expect(await pruneRuns(app.database, 90, () => true)).toBe(2)
  expect([(await runsOf('evening')).length, (await runsOf('rare')).length]).toEqual([1, 1])
})

test('of a hundred thousand none of which is due, none is looked at', async () => {
  await save('evening')
  await multiply('evening', 100_000, sql`'2099-01-01' + interval seq second`)
  await app.database.change(sql`analyze table schedules`)
  expect(await dueSchedules(app.database, 200)).toEqual([])
  const [plan] = await app.database.rows<{ key: string; rows: number }>(
    sql`explain select no from schedules force index (by_due) where paused = false and next_at <= utc_timestamp(3)
        order by next_at limit 200`,
  )
  expect(plan).toMatchObject({ key: 'by_due' })
  expect(Number(plan!.rows)).toBeLessThan(5)
})
