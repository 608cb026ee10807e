import { afterAll, beforeAll, beforeEach, describe, expect, test } from '@jest/globals'
import type { TriggerDefinition } from '@zbell/core/triggers'
import { sql } from 'drizzle-orm'
import { Database } from '../src/database/database.ts'
import { DatabaseUnavailable } from '../src/database/errors.ts'
import { freePort } from '../src/database/private/private-server.ts'
import { Signals } from '../src/engine/signals.ts'
import { storeOccurrences } from '../src/people/store/occurrences.ts'
import { pruneFirings } from '../src/triggers/store/firings.ts'
import { Triggers } from '../src/triggers/triggers.ts'
import { addDevice, deafIntake, type ScratchApp, scratchApp } from './scratch-database.ts'
import { evaluators } from './scratch-evaluator-pool.ts'

let app: ScratchApp
let failed: string[] = []

beforeAll(async () => {
  app = await scratchApp()
})
afterAll(() => app?.scratch.close())
beforeEach(async () => {
  failed = []
  for (const table of [
    'triggers',
    'trigger_versions',
    'trigger_events',
    'firings',
    'occurrences',
    'work',
    'notifications',
  ])
    await app.database.change(sql`delete from ${sql.identifier(table)}`)
  await app.database.change(sql`delete from devices`)
  await addDevice(app, 1)
})

/** As a process has them. Nothing is sent here: of intake only its ear for new work is needed. */
function process(database: Database): Triggers {
  return new Triggers({
    database,
    signals: new Signals(),
    intake: deafIntake(database),
    queries: {} as never,
    evaluators,
    keptDays: 0,
    observer: { fired: () => {}, failed: (trigger) => failed.push(trigger) },
  })
}

const definition: TriggerDefinition = {
  source: 'occurrences',
  to: { any: ["'everyone'"] },
  content: { title: 'Sailing {sailing}' },
  values: { sailing: 'event.data.sailing' },
  key: 'string(event.data.sailing)',
}
const save = (more: Partial<TriggerDefinition> = {}) =>
  process(app.database).save(app.scope, 'booked', { ...definition, ...more, enabled: true }, 'test')
const happened = (sailings: readonly number[]) =>
  storeOccurrences(
    app.database,
    app.scope,
    sailings.map((sailing) => ({
      id: `booking-${sailing}`,
      source: 'https://tickets.merrow-sound.example',
      type: 'example.booked',
      at: new Date(),
      data: { sailing },
      user: undefined,
    })),
    { is: 'server' },
  )
const firings = () =>
  app.database.rows<{ key: string; state: string; says: string | null; rung: number }>(
    sql`select key_text as ${sql.identifier('key')}, state, says, notification_id is not null as rung from firings order by no`,
  )
const notifications = async () => (await app.database.rows(sql`select no from notifications`)).length
const makeDue = () => app.database.change(sql`update firings set due_at = utc_timestamp(3) - interval 1 second`)
const to = (count: number) => Array.from({ length: count }, (_, n) => n)

describe('an event', () => {
  test('fires once, however many processes look at the same time', async () => {
    await save()
    await happened(to(160))
    const processes = [1, 2, 3].map(() => process(app.scratch.another()))
    const onPolled = await Promise.all(
      processes.map(async (one) => {
        let ours = 0
        // Another has taken what this one looked at: it looks again, as its clock would.
        for (let waits = 0; waits < 200 && (await waiting()) > 0; waits++) ours += await one.fireWaiting()
        return ours
      }),
    )
    expect(onPolled.reduce((sum, ours) => sum + ours, 0)).toBe(160)
    expect(new Set((await firings()).map(({ key }) => key)).size).toBe(160)
    expect(await firings()).toHaveLength(160)
    expect(await notifications()).toBe(160)
  })

  test('that several processes look at at once fires no more often for a key than its trigger says', async () => {
    const names = ['first', 'second', 'third']
    for (const name of names)
      await process(app.database).save(
        app.scope,
        name,
        { ...definition, key: `'one key'`, notMoreOftenThan: 3_600, enabled: true },
        'test',
      )
    for (let round = 0; round < 10; round++) {
      await app.database.change(sql`delete from firings`)
      await happened(to(20).map((n) => round * 100 + n))
      // Each takes one event at a time, so that they store side by side.
      await Promise.all(
        [1, 2, 3, 4].map(async () => {
          const one = process(app.scratch.another())
          for (let waits = 0; waits < 50 && (await waiting()) > 0; waits++) await one.fireWaiting()
        }),
      )
      expect((await firings()).filter(({ state }) => state === 'rung')).toHaveLength(names.length)
    }
  })

  test('waits where no trigger listens no longer, and is done with when one looks', async () => {
    await save()
    await happened([1])
    await process(app.database).enable(app.scope, 'booked', false)
    expect(await process(app.database).fireWaiting()).toBe(1)
    await happened([2])
    expect(await waiting()).toBe(0)
    expect(await firings()).toEqual([])
  })

  test('of which nothing can be stored is said to be our fault, and holds up no other', async () => {
    await save()
    await happened([1, 2, 3])
    await app.database.change(sql`alter table firings add constraint evil check (state <> 'rung' or key_text <> '2')`)
    try {
      expect(await process(app.database).fireWaiting()).toBe(3)
    } finally {
      await app.database.change(sql`alter table firings drop constraint evil`)
    }
    expect((await firings()).map(({ key, state }) => `${key} ${state}`)).toEqual(['1 rung', '2 fault', '3 rung'])
    expect(failed).toEqual(['booked'])
    expect(await notifications()).toBe(2)
  })

  test('is kept while the database is away', async () => {
    await save()
    await happened([1])
    const away = new Database({ url: `mysql://nobody@127.0.0.1:${await freePort()}/bell`, connections: 1 })
    await expect(process(away).fireWaiting()).rejects.toThrow(DatabaseUnavailable)
    await away.close()
    expect(await waiting()).toBe(1)
    expect(failed).toEqual([])
  })
})

describe('a firing that waits', () => {
  test('rings once when it is due, whoever looks', async () => {
    await save({ after: 60 })
    await happened(to(20))
    await process(app.database).fireWaiting()
    expect(await process(app.database).fireDue()).toBe(0)
    await makeDue()
    await Promise.all([1, 2, 3].map(() => process(app.scratch.another()).fireDue()))
    expect((await firings()).every(({ state, rung }) => state === 'rung' && rung === 1)).toBe(true)
    expect(await notifications()).toBe(20)
  })

  test.each([
    ['was switched off', sql`update triggers set enabled = false`, 'its trigger was switched off while it waited'],
    ['was paused', sql`update triggers set paused_because = 'it ran away'`, 'paused: it ran away'],
  ])('is dropped when its trigger %s meanwhile', async (_what, change, says) => {
    await save({ after: 60 })
    await happened([1])
    await process(app.database).fireWaiting()
    await app.database.change(change)
    await makeDue()
    await process(app.database).fireDue()
    expect(await firings()).toEqual([{ key: '1', state: 'dropped', says, rung: 0 }])
    expect(await notifications()).toBe(0)
  })

  test('of which nothing can be stored holds up no other that is due', async () => {
    await save({ after: 60 })
    await happened([1, 2, 3])
    await process(app.database).fireWaiting()
    await makeDue()
    await app.database.change(sql`alter table firings add constraint evil check (state <> 'rung' or key_text <> '1')`)
    try {
      await process(app.database).fireDue()
    } finally {
      await app.database.change(sql`alter table firings drop constraint evil`)
    }
    expect((await firings()).map(({ key, state }) => `${key} ${state}`)).toEqual(['1 fault', '2 rung', '3 rung'])
    expect(await notifications()).toBe(2)
  })
})

test('what is forgotten is found by its age, however much is kept', async () => {
  await save()
  const fill = (count: number, age: string) =>
    app.database.change(
      sql`insert into firings (trigger_no, version, key_hash, key_text, given, state, fired_at)
          select 1, 1, unhex(md5(seq)), seq, '{}', 'no-case', utc_timestamp(3) - interval ${age} day
          from seq_1_to_50000 where seq <= ${count}`,
    )
  await fill(20_000, '1')
  await fill(7_000, '40')
  await pruneFirings(app.database, 30, () => true)
  expect(await firings()).toHaveLength(20_000)
  const [plan] = await app.database.rows<{ key: string }>(
    sql`explain delete from firings where fired_at < utc_timestamp(3) - interval 30 day and state <> 'waiting' order by fired_at limit 5000`,
  )
  expect(plan?.key).toBe('by_age')
})

const waiting = async () => (await app.database.rows(sql`select no from trigger_events`)).length

describe('who reports', () => {
  const event = (more: object = {}) => ({
    id: 'booking-7',
    source: 'https://tickets.merrow-sound.example',
    type: 'example.booked',
    at: new Date(),
    data: { sailing: 7 },
    user: undefined,
    ...more,
  })
  const byDevice = async (proved = false) => {
    const [device] = await app.database.rows<{ no: number }>(sql`select min(no) as no from devices`)
    return { is: 'device', no: device!.no, proved } as const
  }
  const byServer = { is: 'server' } as const

  test('a device that says what the server will say later keeps nothing of it from the triggers', async () => {
    await save()
    expect(await storeOccurrences(app.database, app.scope, [event()], await byDevice())).toBe(1)
    expect(await waiting()).toBe(0)
    expect(await storeOccurrences(app.database, app.scope, [event()], byServer)).toBe(1)
    expect(await storeOccurrences(app.database, app.scope, [event()], byServer)).toBe(0)
    await process(app.database).fireWaiting()
    expect((await firings()).map(({ state }) => state)).toEqual(['rung'])
  })

  test('devices are heard by a trigger that says so, which knows whose they are and whether that was proved', async () => {
    await save({ devices: true, when: 'event.by != "device" || event.proved', key: 'event.by' })
    await storeOccurrences(app.database, app.scope, [event()], await byDevice())
    await storeOccurrences(app.database, app.scope, [event({ id: 'booking-8' })], await byDevice(true))
    await storeOccurrences(app.database, app.scope, [event({ id: 'booking-9' })], byServer)
    await process(app.database).fireWaiting()
    expect((await firings()).map(({ key, state }) => `${key} ${state}`)).toEqual([
      expect.stringMatching(/booking-7 no-case$/),
      'device rung',
      'server rung',
    ])
  })

  test('what a source reports is known of that source alone', async () => {
    const bySource = (no: number) => ({ is: 'source', no, name: 'office', samples: [] }) as const
    for (const no of [1, 2]) expect(await storeOccurrences(app.database, app.scope, [event()], bySource(no))).toBe(1)
    expect(await storeOccurrences(app.database, app.scope, [event()], bySource(1))).toBe(0)
  })
})
