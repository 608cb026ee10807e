import { createHash, randomBytes } from 'node:crypto'
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import { type Platform, permissions, platforms, reasonToSkip, type Target, uuidV7 } from '@zbell/core'
import { sql } from 'drizzle-orm'
import fc from 'fast-check'
import type { Database } from '../src/database/database.ts'
import type { Scope } from '../src/database/scope.ts'
import { registerDevice } from '../src/devices/store/register-device.ts'
import { isReachable } from '../src/segments/store/reachable.ts'
import { tallyTarget } from '../src/targets/store/tally-target.ts'
import { countTarget, isPersonal, personalDevices, targetDevices } from '../src/targets/store/target-devices.ts'
import { type Scratch, scratchApp } from './scratch-database.ts'

type Known = { no: number; id: string; token: string; platform: Platform; user: string | null; names: Set<string> }

let scratch: Scratch
let database: Database
let scope: Scope
const fleet: Known[] = []
const people = [null, 'ada', 'signe', 'kenji', 'layla']
/** More than are looked through one by one. */
const topicNames = ['route-1', 'route-4', 'weather', 'route-2', 'route-3', 'route-5']

beforeAll(async () => {
  ;({ scratch, database, scope } = await scratchApp())
  for (const [i, name] of topicNames.entries())
    await database.change(
      sql`insert into topics (no, app_no, environment, name, declared, created_at) values (${i + 1}, ${scope.app.no}, 'development', ${name}, 1, now())`,
    )
  for (let i = 0; i < 24; i++) await add(i)
  // Signe follows route-4 as a person: on all her devices.
  await database.change(
    sql`insert into topic_users (topic_no, user_no, joined_at) select 2, no, now() from users where name = 'signe'`,
  )
  for (const device of fleet) if (device.user === 'signe') device.names.add('topic:route-4')
})
afterAll(() => scratch.close())

async function add(i: number): Promise<void> {
  const id = uuidV7(Date.now(), randomBytes(10))
  const token = `token-${i}`
  const user = people[i % people.length]!
  const platform = platforms[i % platforms.length]!
  const facts = { permission: 'granted' as const, muted: false, locale: null, timeZone: null, appVersion: null }
  await registerDevice(database, scope, {
    ...facts,
    id,
    platform,
    user,
    installation: null,
    allows: null,
    systemVersion: null,
    model: null,
    address: { token, tokenHash: createHash('sha256').update(token).digest(), p256dh: null, auth: null },
    secretHash: randomBytes(32),
    shownHash: null,
  })
  const [{ no }] = (await database.rows<{ no: number }>(sql`select max(no) as no from devices`)) as [{ no: number }]
  const names = new Set(['everyone', `device:${id}`, `token:${token}`, ...(user ? [`user:${user}`] : [])])
  const topic = i % (topicNames.length + 1)
  if (topic < topicNames.length) {
    await database.change(sql`insert into topic_devices values (${topic + 1}, ${no}, now())`)
    names.add(`topic:${topicNames[topic]}`)
  }
  fleet.push({ no, id, token, platform, user, names })
}

/** The meaning of a target, by what it is asked of each reference. */
function isMeant(target: Target, platform: Platform, isNamedBy: (reference: string) => boolean): boolean {
  const { any = [], all = [], none = [], platforms: some } = target
  if (some !== undefined && !some.includes(platform)) return false
  return (any.length === 0 || any.some(isNamedBy)) && all.every(isNamedBy) && !none.some(isNamedBy)
}

const where = () => ({ appNo: scope.app.no, environment: scope.environment })

describe('a target', () => {
  test('means in the database what its words say, whatever is combined', async () => {
    const references = [
      'everyone',
      ...people.filter((name) => name !== null).map((name) => `user:${name}`),
      'user:nobody',
      ...topicNames.map((name) => `topic:${name}`),
      ...fleet.slice(0, 6).flatMap(({ id, token }) => [`device:${id}`, `token:${token}`]),
    ]
    const some = fc.option(fc.uniqueArray(fc.constantFrom(...references), { minLength: 1, maxLength: 8 }), {
      nil: undefined,
    })
    const targets: fc.Arbitrary<Target> = fc.record({
      any: some,
      all: some,
      none: some,
      platforms: fc.option(fc.uniqueArray(fc.constantFrom(...platforms), { minLength: 1 }), { nil: undefined }),
    })
    await fc.assert(
      fc.asyncProperty(targets, async (target) => {
        fc.pre(target.any !== undefined || target.all !== undefined)
        const meant = fleet
          .filter(({ platform, names }) => isMeant(target, platform, (text) => names.has(text)))
          .map(({ no }) => no)
        expect(await targetDevices(database, target, where(), 0, 1_000)).toEqual(meant)
        expect(await countTarget(database, target, where())).toBe(meant.length)
      }),
      { numRuns: 150 },
    )
  })
  test('is counted for a review as it is found for a sending, and each person once', async () => {
    const meant: fc.Arbitrary<Target> = fc.record({
      any: fc.uniqueArray(
        fc.constantFrom('everyone', 'user:ada', 'user:signe', ...topicNames.map((name) => `topic:${name}`)),
        {
          minLength: 1,
          maxLength: 7,
        },
      ),
      none: fc.option(fc.constantFrom(['user:ada'], ['topic:weather']), { nil: undefined }),
      platforms: fc.option(fc.constantFrom<Platform[]>(['ios'], ['android', 'web']), { nil: undefined }),
    })
    await fc.assert(
      fc.asyncProperty(meant, async (target) => {
        const asked = { names: [], mode: 'show' as const, exact: true, channelNo: null }
        const { groups, people: counted, estimated } = await tallyTarget(database, target, where(), asked)
        const found = fleet.filter(({ platform, names }) => isMeant(target, platform, (text) => names.has(text)))
        expect(estimated).toBe(false)
        expect(groups.reduce((sum, { devices }) => sum + devices, 0)).toBe(found.length)
        expect(counted).toBe(new Set(found.map(({ user, id }) => user ?? id)).size)
      }),
      { numRuns: 60 },
    )
  })
  test('that names people, devices and tokens one by one means the same, found at once', async () => {
    const references = [
      ...people.filter((name) => name !== null).map((name) => `user:${name}`),
      'user:nobody',
      'token:nowhere',
      ...fleet.slice(0, 8).flatMap(({ id, token }) => [`device:${id}`, `token:${token}`]),
    ]
    // One kind alone is asked in another way than several together.
    const kinds = ['user:', 'token:', 'device:', ''].map((start) => references.filter((one) => one.startsWith(start)))
    const targets: fc.Arbitrary<Target> = fc.constantFrom(...kinds).chain((kind) =>
      fc.record({
        any: fc.array(fc.constantFrom(...kind), { minLength: 1, maxLength: 5 }),
        none: fc.option(fc.array(fc.constantFrom(...references), { minLength: 1, maxLength: 2 }), { nil: undefined }),
        platforms: fc.option(fc.uniqueArray(fc.constantFrom(...platforms), { minLength: 1 }), { nil: undefined }),
      }),
    )
    await fc.assert(
      fc.asyncProperty(targets, async (target) => {
        expect(isPersonal(target)).toBe(true)
        const found = await personalDevices(database, target, where(), 100)
        const meant = fleet.filter(({ platform, names }) => isMeant(target, platform, (text) => names.has(text)))
        expect(found.map(({ no, token }) => ({ no, token }))).toEqual(meant.map(({ no, token }) => ({ no, token })))
      }),
      { numRuns: 150 },
    )
  })
  test('comes page by page, each device once', async () => {
    const target: Target = { any: ['user:signe', 'topic:route-4', 'topic:weather'], none: ['user:ada'] }
    const all = await targetDevices(database, target, where(), 0, 1_000)
    const pages: number[] = []
    for (;;) {
      const page = await targetDevices(database, target, where(), pages.at(-1) ?? 0, 3)
      pages.push(...page)
      if (page.length < 3) break
    }
    expect(pages).toEqual(all)
    expect(all.length).toBeGreaterThan(5)
  })
  test('has no retired device, and nobody of another app', async () => {
    const [first] = fleet
    await database.change(sql`update devices set retired_at = now() where no = ${first!.no}`)
    expect(await targetDevices(database, { any: ['everyone'] }, where(), 0, 1_000)).not.toContain(first!.no)
    await database.change(sql`update devices set retired_at = null where no = ${first!.no}`)
    expect(await targetDevices(database, { any: ['everyone'] }, { ...where(), appNo: 99 }, 0, 10)).toEqual([])
    expect(await targetDevices(database, { any: [`device:${first!.id}`] }, { ...where(), appNo: 99 }, 0, 10)).toEqual(
      [],
    )
  })
})

test('whether a device can be rung is the same in the database as in memory, whatever is known of it', async () => {
  for (const mode of ['show', 'wake'] as const)
    for (const permission of permissions)
      for (const muted of [true, false])
        for (const retired of [true, false]) {
          const [row] = await database.rows<{ rings: number }>(
            sql`select ${isReachable(mode, null)} as rings from (select ${permission} as permission, ${muted} as muted, ${retired ? new Date() : null} as retired_at) v`,
          )
          expect(row!.rings === 1).toBe(reasonToSkip({ permission, muted, retired }, mode) === undefined)
        }
})
