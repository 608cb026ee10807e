import { afterAll, beforeAll, expect, test } from '@jest/globals'
import { rowsOfRule, ruleOfRows } from '@zbell/core/rule-rows'
import {
  checkRule,
  type Facts,
  type Happened,
  programOf,
  type ReceivedStep,
  type RuleProgram,
  RuleRefused,
  type Term,
  type Verdict,
} from '@zbell/core/rules'
import { sql } from 'drizzle-orm'
import fc from 'fast-check'
import { inScope } from '../../../e2e/harness/scope.ts'
import { ensureUser } from '../src/devices/store/ensure-user.ts'
import { changeAttributes } from '../src/people/store/attributes.ts'
import { storeOccurrences } from '../src/people/store/occurrences.ts'
import { searchRule } from '../src/segments/store/rule-search.ts'
import { type RuleContext, ruleCondition } from '../src/segments/store/rule-to-sql.ts'
import { attributes, events, instants, nowMs, numbers, randomRule, texts } from './random-rules.ts'
import { type ScratchApp, scratchApp } from './scratch-database.ts'

const people = 36
const runs = inScope({ default: 400, all: 2_500, long: 40_000 })
const vocabulary = { attributes, segments: new Set(['commuters', 'crew']) }
const segmentTexts = { commuters: 'user.trips > 1 && follows("route-4")', crew: 'user.crew' }

let app: ScratchApp
let context: RuleContext
const facts = new Map<number, Facts>()
const segments = new Map<string, RuleProgram>()

/** The same each time: which of a few values somebody has. */
const pick = <T>(all: readonly T[], no: number, turn: number): T | undefined => {
  const at = (no * 7 + turn * 13 + no * turn) % (all.length + 1)
  return all[at]
}

beforeAll(async () => {
  app = await scratchApp()
  const { database, scope } = app
  const topic = await database.change(
    sql`insert into topics (app_no, environment, name, declared, created_at) values (${scope.app.no}, 'development', 'route-4', 1, now())`,
  )
  for (const [i, name] of ['storm', 'calm'].entries())
    await database.change(
      sql`insert into notifications (no, id, app_no, environment, state, target, content, urgency, mode, ttl_seconds, sent_by, request_hash, name, created_at, expires_at, changed_at)
          values (${i + 1}, ${Buffer.alloc(16, i)}, ${scope.app.no}, 'development', 'finished', '{}', '{}', 1, 'show', 60, 'test', ${Buffer.alloc(32)}, ${name}, now(), now(), now())`,
    )
  for (let no = 1; no <= people; no++) await one(no, topic.insertId)
  const rows = await database.rows<{ no: number; name: string }>(sql`select no, name from attributes`)
  const terms = new Map(Object.entries(segmentTexts).map(([name, text]) => [name, checkRule(text, vocabulary).term]))
  for (const [name, term] of terms) segments.set(name, programOf(term))
  context = {
    appNo: scope.app.no,
    environment: 'development',
    nowMs,
    attributes: new Map(rows.map((row) => [row.name, row.no])),
    topics: new Map([['route-4', topic.insertId]]),
    segments: terms,
  }
})
afterAll(() => app.scratch.close())

/** A device, and mostly a user, of whom this and that is known. */
async function one(no: number, topicNo: number): Promise<void> {
  const { database, scope } = app
  const known: [string, string | number | boolean | { longitude: number; latitude: number } | undefined][] = [
    ['pier', pick(texts, no, 1)],
    ['home-pier', pick(texts, no, 2)],
    ['trips', pick(numbers, no, 3)],
    ['balance', pick(numbers, no, 4)],
    ['crew', pick([true, false], no, 5)],
    ['ends', pick(instants, no, 6)],
    [
      'lives',
      pick(
        [
          { longitude: 5.32, latitude: 60.39 },
          { longitude: -180, latitude: 0 },
          { longitude: 0, latitude: 90 },
        ],
        no,
        7,
      ),
    ],
  ]
  const user = new Map(known.flatMap(([name, value]) => (value === undefined ? [] : [[name, value] as const])))
  const isNobodys = no % 9 === 0
  const seenAtMs = nowMs - (no % 5) * 86_400_000
  const receiptAtMs = no % 2 === 0 ? nowMs - no : null
  const device = {
    platform: (['ios', 'android', 'web'] as const)[no % 3]!,
    locale: pick(['nb-NO', 'en', 'ar'], no, 8) ?? null,
    appVersion: pick(['4.2.0', '4.10', '4.2.0-beta', 'four', '4.2.0.1.9', '007.1'], no, 9) ?? null,
    model: pick(texts, no, 10) ?? null,
    permission: 'granted',
    muted: no % 4 === 0,
    registeredAt: nowMs - 1,
    seenAt: seenAtMs,
    receiptAt: receiptAtMs,
  }
  const happened: Happened[] = isNobodys
    ? []
    : Array.from({ length: no % 6 }, (_, i) => ({
        type: events[(no + i) % 2]!,
        source: i % 2 === 0 ? '/app' : '/app ',
        atMs: nowMs - pick([0, 1, 3_600_000, 3_600_001, 86_400_000, 604_800_000], no, i)! || nowMs - 5,
        data: pick(
          [
            { price: 20.5, to: 'Saltmere', firm: true },
            { price: 'free', to: 'a ', firm: 'yes' },
            { price: null, stops: { count: 2, last: 'x' } },
            { price: 9e307, to: '😀', stops: 3, firm: false },
            { 'odd "name': 1, price: -0.5, to: 'tab\there "quoted" \\ \u00e9' },
            [1, 2],
            'text',
            null,
          ],
          no,
          i + 20,
        ),
      }))
  const told = (['rung', 'received', 'opened'] as const).flatMap((what: ReceivedStep, i) =>
    no % (i + 2) === 0 ? [{ what, atMs: nowMs - i * 3_600_000, notification: 'storm' }] : [],
  )
  await database.transact(async (tx) => {
    const userNo = isNobodys ? null : await ensureUser(tx, scope, `p-${no}`)
    if (userNo !== null) await changeAttributes(tx, scope, userNo, Object.fromEntries(user), false)
    await tx.change(
      sql`insert into devices (no, id, app_no, environment, platform, token, token_hash, secret_hash, user_no, permission, muted,
            locale, app_version, model, registered_at, seen_at, changed_at, receipt_at)
          values (${no}, ${Buffer.from(String(no).padStart(16))}, ${scope.app.no}, 'development', ${device.platform}, 'x',
            ${Buffer.from(String(no).padStart(32))}, ${Buffer.from(String(no).padStart(32))}, ${userNo}, 'granted', ${device.muted},
            ${device.locale}, ${device.appVersion}, ${device.model}, ${new Date(nowMs - 1)}, ${new Date(seenAtMs)}, now(),
            ${receiptAtMs === null ? null : new Date(receiptAtMs)})`,
    )
    if (no % 3 === 1 && userNo !== null)
      await tx.change(sql`insert into topic_users (topic_no, user_no, joined_at) values (${topicNo}, ${userNo}, now())`)
    if (no % 9 === 0)
      await tx.change(sql`insert into topic_devices (topic_no, device_no, joined_at) values (${topicNo}, ${no}, now())`)
    const at = (what: ReceivedStep) => told.find((each) => each.what === what)
    if (told.length > 0)
      await tx.change(
        sql`insert into deliveries (notification_no, device_no, platform, state, accepted_at, received_at, opened_at)
            values (1, ${no}, 0, 1, ${dateOf(at('rung'))}, ${dateOf(at('received'))}, ${dateOf(at('opened'))})`,
      )
  })
  if (happened.length > 0)
    await storeOccurrences(
      database,
      scope,
      happened.map(({ type, source, atMs, data }, i) => ({
        id: `${no}-${i}`,
        source,
        type,
        at: new Date(atMs),
        data,
        user: `p-${no}`,
      })),
      { is: 'server' },
    )
  facts.set(no, {
    nowMs,
    user: isNobodys ? new Map() : user,
    device,
    topics: new Set((no % 3 === 1 && !isNobodys) || no % 9 === 0 ? ['route-4'] : []),
    happened,
    reached: new Set(at(told, 'rung') ? ['storm'] : []),
    told,
  })
}

const at = (told: Facts['told'], what: ReceivedStep) => told.find((each) => each.what === what)
const dateOf = (one: { readonly atMs: number } | undefined): Date | null => (one ? new Date(one.atMs) : null)

/** Who belongs, as they are found by an index wherever one knows of a clause. */
async function foundBy(term: Term): Promise<number[]> {
  const { places } = await searchRule(app.database, term, context, { dearer: 0 })
  const found = await Promise.all(
    places.map(({ tables, where }) =>
      app.database.rows<{ no: number }>(sql`select v.no from ${tables} where ${where}`),
    ),
  )
  return found
    .flat()
    .map(({ no }) => no)
    .sort((a, b) => a - b)
}

/** Who belongs, as the database says and as the evaluator does. */
async function compare(
  text: string,
): Promise<{ readonly stored: readonly Verdict[]; readonly inMemory: readonly Verdict[] }> {
  const { term } = checkRule(text, vocabulary)
  const condition = ruleCondition(term, context)
  const rows = await app.database.rows<{ no: number; verdict: number | null }>(
    sql`select v.no, ${condition} as verdict from devices v order by v.no`,
  )
  const program = programOf(term, segments)
  const found = await foundBy(term)
  expect(found).toEqual(rows.filter(({ verdict }) => verdict !== null && Number(verdict) === 1).map(({ no }) => no))
  return {
    stored: rows.map(({ verdict }) => (verdict === null ? null : Number(verdict) === 1)),
    inMemory: rows.map(({ no }) => program(facts.get(no)!)),
  }
}

test.each([
  '1/0 == 1',
  '9e307 * 100.0 > 1.0',
  '-0.0 == 0.0',
  '"a" == "a "',
  '"😀" > "\uffff"',
  'user.balance * user.trips > 0',
  'user.balance / user.trips < 1',
  'count("example.booked", duration("8760h"), o, o.data.price > 20) > 0',
  'count("example.searched", duration("8760h"), o, o.data.price == "free") > 0',
  'user.pier > user["home-pier"]',
  'user.ends + duration("87600h") > now',
])('the database and the evaluator agree, and neither fails: %s', async (text) => {
  const { stored, inMemory } = await compare(text)
  expect(stored).toEqual(inMemory)
})

test(`the database and the evaluator agree on ${runs} random rules about ${people} people, one by one`, async () => {
  let refused = 0
  const verdicts = new Map<Verdict, number>()
  await fc.assert(
    fc.asyncProperty(randomRule, async (text) => {
      try {
        const { stored, inMemory } = await compare(text)
        for (const one of inMemory) verdicts.set(one, (verdicts.get(one) ?? 0) + 1)
        expect(stored).toEqual(inMemory)
      } catch (error) {
        // A rule that came out too long is no rule.
        if (!(error instanceof RuleRefused)) throw error
        refused++
      }
    }),
    { numRuns: runs },
  )
  expect(refused).toBeLessThan(runs / 10)
  // All three have to come up often, or nothing was shown.
  for (const one of [true, false, null]) expect(verdicts.get(one) ?? 0).toBeGreaterThan((runs * people) / 50)
})

test('a rule that is read into rows and written again says the same of everybody', async () => {
  let written = 0
  await fc.assert(
    fc.property(randomRule, (text) => {
      const rows = rowsOfRule(text)
      if (rows === undefined) return
      // Text that no row can show comes out as the parser writes it, which may take it two turns.
      const again = ruleOfRows(rowsOfRule(ruleOfRows(rows))!)
      // Written again it stays as it is: whoever edits a row changes nothing else.
      expect(ruleOfRows(rowsOfRule(again)!)).toBe(again)
      const [before, after] = [verdictsOf(text), verdictsOf(again)]
      if (before === undefined) return
      expect(after).toEqual(before)
      written++
    }),
    { numRuns: runs },
  )
  expect(written).toBeGreaterThan(runs / 2)
})

/** @returns undefined for what came out too long */
function verdictsOf(text: string): Verdict[] | undefined {
  try {
    const program = programOf(checkRule(text, vocabulary).term, segments)
    return [...facts.values()].map((one) => program(one))
  } catch (error) {
    if (error instanceof RuleRefused) return undefined
    throw error
  }
}
