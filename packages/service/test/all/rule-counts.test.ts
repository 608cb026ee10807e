import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import { sql } from 'drizzle-orm'
import { fillCrowd } from '../../../../e2e/harness/crowd.ts'
import { compile } from '../../src/database/fragments.ts'
import { readyRule } from '../../src/segments/store/ready-rule.ts'
import { countRule, estimateRule, isLong, ruleMembers, someMembers } from '../../src/segments/store/rule-members.ts'
import { searchRule } from '../../src/segments/store/rule-search.ts'
import { ruleWords } from '../../src/segments/store/rule-words.ts'
import { type ScratchApp, scratchApp } from '../scratch-database.ts'

const people = 20_000
let app: ScratchApp
const where = () => ({ appNo: app.scope.app.no, environment: app.scope.environment })

beforeAll(async () => {
  app = await scratchApp()
  await fillCrowd(app.scratch.url, { people, occurrences: 40_000 })
  // One of them follows by themselves what others follow with all their devices, and one both ways.
  await app.database.change(
    sql`insert into topic_devices (topic_no, device_no, joined_at)
        select t.no, d.no, now(3) from topics t join devices d on d.user_no in (1, 2)
        where t.name = 'route-1'`,
  )
  await app.database.change(
    sql`insert ignore into topic_users (topic_no, user_no, joined_at) select no, 2, now(3) from topics where name = 'route-1'`,
  )
  await app.database.change(sql`delete from topic_users where user_no = 1`)
})
afterAll(() => app?.scratch.close())

const ready = (rule: string) => readyRule(app.database, where(), rule, Date.now())
const searched = async (rule: string, how?: { dearer: number }) => {
  const { term, context } = await ready(rule)
  return searchRule(app.database, term, context, how)
}
const isFound = async (rule: string) => (await searched(rule)).entries !== undefined

describe('the devices of a rule', () => {
  test('are found by an index where a clause has few, and else by walking through all', async () => {
    expect(await isFound('user.trips > 390')).toBe(true)
    expect(await isFound('390 < user.trips && user.newsletter')).toBe(true)
    expect(await isFound('user.pier == "saltmere" && user.trips % 2 == 0')).toBe(true)
    expect(await isFound('user.pier in ["saltmere"] && device.platform == "ios"')).toBe(true)
    expect(await isFound('follows("route-1")')).toBe(true)
    expect(await isFound('has(user.pass)')).toBe(false)
    expect(await isFound('user.pier != "saltmere"')).toBe(false)
    expect(await isFound('user.pier == "saltmere" || user.trips > 3')).toBe(false)
    expect(await isFound('device.platform == "ios"')).toBe(false)
  })

  test('are asked by the clause first that leaves the fewest, and of occurrences last', async () => {
    const { places } = await searched(
      'count("example.searched", duration("168h")) >= 1 && user.language == "en" && user.trips > 390',
    )
    const { sql: tables, values } = compile(places[0]!.tables)
    expect(tables).toMatch(/from user_attributes k force index \(by_number\)/)
    expect(tables.indexOf('from occurrences')).toBeGreaterThan(tables.indexOf('a.text'))
    expect(values).toContain('en')
  })

  test.each([
    'user.trips > 390',
    'user.pier == "saltmere" && follows("route-1")',
    'follows("route-1")',
    'follows("route-1") && user.newsletter',
    '!user.newsletter && user.pass == "season" && count("example.searched", duration("168h")) >= 1',
    'user.since < now - duration("8760h") && user.trips < 20',
  ])('are the same however they are found, each once: %s', async (rule) => {
    const search = await searched(rule, { dearer: 0 })
    const walked = await searched(rule, { dearer: Number.POSITIVE_INFINITY })
    expect([search.entries !== undefined, walked.entries]).toEqual([true, undefined])
    const [byIndex, byWalk] = [
      await countRule(app.database, app.scope, search),
      await countRule(app.database, app.scope, walked),
    ]
    expect(byIndex).toEqual(byWalk)
    expect(byIndex.devices).toBeGreaterThan(0)
    const members = await ruleMembers(app.database, app.scope, search, { limit: people })
    expect(members).toHaveLength(byIndex.devices)
    expect(new Set(members.map(({ no }) => no)).size).toBe(members.length)
    expect(await ruleMembers(app.database, app.scope, walked, { limit: people })).toEqual(members)
    const [first, second] = members
    expect(await ruleMembers(app.database, app.scope, search, { limit: 1, after: first!.no })).toEqual([second])
    const all = new Set(members.map(({ device }) => device))
    for (const { device } of await someMembers(app.database, app.scope, search, 5)) expect(all.has(device)).toBe(true)
  })
})

describe('an estimate', () => {
  const how = { above: 1_000, walks: 1_000, people: 2_000, fewest: 300 }

  test('is made where more has to be looked at than somebody waits for', async () => {
    expect(await isLong(app.database, app.scope, await searched('user.trips % 2 == 0'), how)).toBe(true)
    expect(await isLong(app.database, app.scope, await searched('user.trips > 398'), how)).toBe(false)
    expect(await isLong(app.database, app.scope, await searched('user.trips % 2 == 0'))).toBe(false)
  })

  test.each(['user.trips % 2 == 0', 'user.pass == "season"', 'device.platform == "ios" && user.newsletter'])(
    'lies near what there is: %s',
    async (rule) => {
      const { term, context } = await ready(rule)
      const estimated = (await estimateRule(app.database, app.scope, term, context, how))!
      const counted = await countRule(app.database, app.scope, await searched(rule))
      for (const number of ['people', 'devices', 'reachable'] as const)
        expect(Math.abs(estimated[number] / counted[number] - 1)).toBeLessThan(0.15)
    },
  )

  test('is none where a sample saves nothing', async () => {
    const { term, context } = await ready('user.trips % 2 == 0')
    expect(await estimateRule(app.database, app.scope, term, context, { ...how, people })).toBeUndefined()
  })
})

test('what a rule can be about is offered: the texts that several have, and no text that is everybody’s own', async () => {
  const words = await ruleWords(app.database, where())
  const values = (name: string) => words.attributes.find((one) => one.name === name)?.values
  expect(new Set(values('pass'))).toEqual(new Set(['season', 'day', 'none', 'ten']))
  expect(values('language')).toHaveLength(3)
  expect(values('card')).toEqual([])
  expect(values('trips')).toEqual([])
  expect(words.happened).toContain('example.searched')
  expect(words.topics).toContain('route-4')
  expect(words.segments).toEqual([])
})
