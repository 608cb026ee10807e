import { afterAll, beforeAll, beforeEach, describe, expect, test } from '@jest/globals'
import type { ChannelSetting } from '@zbell/core/policy'
import type { TriggerDefinition } from '@zbell/core/triggers'
import { sql } from 'drizzle-orm'
import { until } from '../../../e2e/harness/programs.ts'
import { createApp, findApp } from '../src/apps/store/apps.ts'
import type { Scope } from '../src/database/scope.ts'
import { whereOf } from '../src/database/scope.ts'
import { Signals } from '../src/engine/signals.ts'
import type { EvaluatorPool } from '../src/evaluation/evaluator-pool.ts'
import { saveTemplate } from '../src/notifications/store/templates.ts'
import { storeOccurrences } from '../src/people/store/occurrences.ts'
import { saveChannel } from '../src/policy/store/channels.ts'
import { saveSegment } from '../src/segments/store/segments.ts'
import { Triggers } from '../src/triggers/triggers.ts'
import { addDevice, deafIntake, type ScratchApp, scratchApp } from './scratch-database.ts'
import { evaluators } from './scratch-evaluator-pool.ts'

const process = (own: EvaluatorPool) =>
  new Triggers({
    database: app.database,
    signals: new Signals(),
    intake: deafIntake(app.database),
    queries: {} as never,
    evaluators: own,
    keptDays: 0,
    observer: {
      fired: () => {},
      failed: (_trigger, error) => {
        throw error
      },
    },
  })

let app: ScratchApp
let other: Scope
let triggers: Triggers
beforeAll(async () => {
  app = await scratchApp()
  await createApp(app.database, { slug: 'other', name: 'Other', identifiers: {}, createdAt: new Date() })
  other = { app: (await findApp(app.database, 'other'))!, environment: 'development' }
  await addDevice(app, 1)
  triggers = process(evaluators)
})
afterAll(async () => {
  await triggers.close()
  await app.scratch.close()
})
beforeEach(async () => {
  for (const table of ['triggers', 'trigger_events', 'firings', 'occurrences'])
    await app.database.change(sql`delete from ${sql.identifier(table)}`)
})

const quick: TriggerDefinition = {
  source: 'occurrences',
  to: { any: ["'everyone'"] },
  content: { title: 'Sailing' },
}
const save = (definition: Partial<TriggerDefinition>, scope = app.scope) =>
  triggers.save(scope, 'watched', { ...quick, ...definition, enabled: true }, 'test')
let count = 0
const happens = (data: object, scope = app.scope) =>
  storeOccurrences(
    app.database,
    scope,
    [
      {
        id: `event-${++count}`,
        source: 'https://tickets.merrow-sound.example',
        type: 'example.booked',
        at: new Date(),
        data: data as never,
        user: undefined,
      },
    ],
    { is: 'server' },
  )
const firings = (scope = app.scope) =>
  app.database.rows<{ state: string; says: string | null }>(
    sql`select f.state, f.says from firings f join triggers t on t.no = f.trigger_no where t.app_no = ${scope.app.no} order by f.no`,
  )
const firesUntil = (scope: Scope, many: number) =>
  until(
    async () => {
      await triggers.fireWaiting()
      return firings(scope)
    },
    (all) => all.length >= many,
  )

/** Four loops in a chain, of which each makes forty of what it is given: 160 parts, and two million values of one. */
const chain = `event.data.list${`.map(x, [${Array(38).fill('x').join(', ')}])`.repeat(4)}`
const numbers = Array.from({ length: 500 }, (_, n) => n)

describe('an expression that takes all time or all memory', () => {
  test('is stopped, tried three times, and said to be at fault; the next event of its app, and other apps, go on', async () => {
    await save({ when: `has(event.data.quick) ? true : ${chain}` })
    await save({}, other)
    await happens({ list: Array(20).fill('x') })
    await happens({ quick: true })
    await triggers.fireWaiting()
    await happens({}, other)
    await firesUntil(other, 1)
    expect(await firings()).toEqual([])
    const states = (await firesUntil(app.scope, 2)).map(({ state, says }) => `${state}: ${says}`)
    expect(states).toEqual([
      expect.stringMatching(/^fault: evaluating it (took longer than .* seconds?, and was stopped|used more memory)/),
      expect.stringMatching(/^(rung|nobody)/),
    ])
    expect(await app.database.rows(sql`select no from trigger_events`)).toEqual([])
  })

  test('holds up no stop, and its event waits for the next start', async () => {
    const stopping = process(evaluators)
    await save({ when: chain })
    await happens({ list: Array(20).fill('x') })
    await stopping.fireWaiting()
    await stopping.close()
    expect(await firings()).toEqual([])
    expect(await app.database.rows(sql`select no from trigger_events`)).toHaveLength(1)
  })

  test('that only takes long is answered, in a process of its own', async () => {
    await save({ when: 'event.data.l.all(x, x in event.data.m)' })
    await happens({ l: numbers, m: numbers })
    const [fired] = await firesUntil(app.scope, 1)
    expect(fired?.state).toMatch(/^(rung|nobody)$/)
  })

  test('that says too much is at fault', async () => {
    await save({ values: { all: `event.data.text${' + event.data.text'.repeat(39)}` } })
    await happens({ text: 'x'.repeat(1_700) })
    expect((await firesUntil(app.scope, 1))[0]).toMatchObject({
      state: 'fault',
      says: 'what it says has 68,008 characters; 64,000 at most',
    })
  })
})

test('trials that flood an app are refused, and delay no firing', async () => {
  await save({ when: '!event.data.l.all(x, x in event.data.m)' })
  const tried = Array.from({ length: 40 }, () =>
    triggers.try(app.scope, 'watched', { event: { data: { l: numbers, m: numbers } } }).then(
      ({ cases }) => `${cases[0]?.holds}`,
      (error: { code?: string }) => error.code,
    ),
  )
  await happens({ l: numbers, m: numbers })
  expect((await firesUntil(app.scope, 1))[0]?.state).toBe('no-case')
  const answers = await Promise.all(tried)
  expect(new Set(answers)).toEqual(new Set(['false', 'too-many-requests']))
  expect(answers.filter((answer) => answer === 'false').length).toBeGreaterThanOrEqual(20)
})

test('events that match no case are counted, and a few of each hour are logged', async () => {
  await save({ when: 'event.data.fare > 100' })
  for (let event = 0; event < 60; event++) await happens({ fare: 1 })
  await triggers.fireWaiting()
  const trigger = () => triggers.require(app.scope, 'watched')
  await until(trigger, ({ unmatched }) => unmatched === 60)
  const logged = await firings()
  // The clock may have struck the hour meanwhile.
  expect([10, 20]).toContain(logged.length)
  expect(logged[9]?.says).toMatch(/; more of them are not logged within this hour$/)
  await happens({ fare: 200 })
  await firesUntil(app.scope, logged.length + 1)
})

test('a trigger with thousands of due firings delays those of no other', async () => {
  for (const scope of [app.scope, other]) await save({ after: 60 }, scope)
  await app.database.change(sql`update triggers set enabled = false`)
  for (const [scope, count, hoursAgo] of [
    [app.scope, 3_000, 5],
    [other, 1, 1],
  ] as const)
    await app.database.change(
      sql`insert into firings (trigger_no, version, key_hash, key_text, given, state, fired_at, due_at, ring)
          select t.no, t.version, unhex(md5(seq)), seq, '{}', 'waiting', utc_timestamp(3),
            utc_timestamp(3) - interval ${hoursAgo} hour, '{}'
          from triggers t, seq_1_to_3000 where t.app_no = ${scope.app.no} and seq <= ${count}`,
    )
  expect(await triggers.fireDue()).toBe(101)
  expect((await firings(other)).map(({ state }) => state)).toEqual(['dropped'])
})

test('a trigger of more than 64,000 characters is refused as a whole', async () => {
  const values = Object.fromEntries(Array.from({ length: 40 }, (_, n) => [`v${n}`, `'${'x'.repeat(1_900)}'`]))
  await expect(save({ values })).rejects.toMatchObject({
    message: expect.stringMatching(/has .* characters in all; 64,000 at most/),
  })
})

describe('what a firing sends', () => {
  const setting = { title: 'Offers', quietHours: true, caps: true } as ChannelSetting

  test('is of the trigger’s channel, also when a template of another makes its words', async () => {
    const where = whereOf(app.scope)
    for (const name of ['offers', 'sailings']) await saveChannel(app.database, where, { name, setting, madeBy: 'test' })
    const content = { title: 'Sailing', channel: 'sailings' }
    await saveTemplate(app.database, where, { name: 'sailing', content, declares: {}, madeBy: 'test' })
    await save({
      content: undefined,
      template: 'sailing',
      options: { channel: 'offers' },
    } as Partial<TriggerDefinition>)
    await happens({})
    await firesUntil(app.scope, 1)
    expect(
      await app.database.rows(
        sql`select c.name from notifications n join channels c on c.no = n.channel_no order by n.no desc limit 1`,
      ),
    ).toEqual([{ name: 'offers' }])
  })

  test('to a segment that has gone is a fault, and its log says which', async () => {
    const where = whereOf(app.scope)
    const segment = { name: 'regulars', rule: "device.platform == 'ios'", note: null, madeBy: 'test' }
    await saveSegment(app.database, where, segment)
    await save({ to: { any: ["'segment:regulars'"] } })
    await app.database.change(sql`update segments set deleted_at = utc_timestamp(3)`)
    await happens({})
    const [firing] = await firesUntil(app.scope, 1)
    expect(firing).toMatchObject({ state: 'fault', says: expect.stringContaining('segment:regulars') })
  })
})
