import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import type { Target } from '@zbell/core'
import { type SQL, sql } from 'drizzle-orm'
import { fillMultitude } from '../../../../e2e/harness/multitude.ts'
import { Database } from '../../src/database/database.ts'
import { placeOf } from '../../src/database/page-order.ts'
import { listDevices } from '../../src/devices/store/read-devices.ts'
import { attributesOf } from '../../src/people/store/attributes.ts'
import { countedWhenAskedUpTo, countMembers } from '../../src/people/store/count-members.ts'
import { findUser, listUsers } from '../../src/people/store/list-people.ts'
import { leaveTopic, listTopics, topicsOfUsers } from '../../src/people/store/topics.ts'
import { sampling, tallyTarget } from '../../src/targets/store/tally-target.ts'
import { countTarget, targetDevices } from '../../src/targets/store/target-devices.ts'
import { type ScratchApp, scratchApp } from '../scratch-database.ts'

const people = 20_000
const limit = 50
/** A page may read so many rows for each that it answers: the row, its person, its devices, topics and attributes. */
const rowsForEach = 12

let app: ScratchApp
/** With one connection, so that what it read can be asked for on the same. */
let database: Database
beforeAll(async () => {
  app = await scratchApp()
  await fillMultitude(app.scratch.url, people)
  database = new Database({ url: app.scratch.url, connections: 1 })
})
afterAll(async () => {
  await database.close()
  await app.scratch.close()
})

async function rowsRead(act: () => Promise<unknown>): Promise<number> {
  const read = async () => {
    const rows = await database.rows<{ Value: string }>(sql`show session status like 'Handler_read%'`)
    return rows.reduce((sum, { Value }) => sum + Number(Value), 0)
  }
  const before = await read()
  await act()
  const after = await read()
  // Reading the counters is counted as well.
  return after - before - ((await read()) - after)
}

const devices = (filter: object) => listDevices(database, app.scope, { limit, ...filter })
const users = (filter: object) => listUsers(database, app.scope, { limit, ...filter })
const nextOf = async (list: (filter: object) => Promise<{ no: number; sortedBy: string | null }[]>, filter: object) =>
  list({ ...filter, after: placeOf((await list(filter)).at(-1)!) })

describe('a page reads no more than a few rows for each that it answers', () => {
  test.each<[string, () => Promise<{ length: number }>]>([
    ['devices, the newest first', () => devices({})],
    ['the next devices', () => nextOf(devices, {})],
    ['devices, the oldest first', () => devices({ direction: 'ascending' })],
    ['devices of a platform', () => devices({ platform: 'web' })],
    ['the next of a platform', () => nextOf(devices, { platform: 'web' })],
    ['devices by change', () => devices({ sort: 'changedAt' })],
    ['the next by change', () => nextOf(devices, { sort: 'changedAt' })],
    ['people, the newest first', () => users({})],
    ['the next people', () => nextOf(users, {})],
    ['people by name', () => users({ sort: 'user' })],
    ['the next by name', () => nextOf(users, { sort: 'user' })],
    ['people by change', () => users({ sort: 'changedAt' })],
    ['the next by their change', () => nextOf(users, { sort: 'changedAt' })],
    ['people of a topic', () => users({ topic: 'route-1' })],
    ['the next of a topic', () => nextOf(users, { topic: 'route-1' })],
  ])('%s', async (_name, list) => {
    let answered = 0
    const read = await rowsRead(async () => {
      answered = (await list()).length
    })
    expect(answered).toBe(limit)
    // The next page is asked for by the place of the first, so that one was read as well.
    expect(read).toBeLessThan(limit * rowsForEach * 2)
  })

  test('a search by the beginning of a name', async () => {
    expect(await rowsRead(() => users({ search: 'p-00007' }))).toBeLessThan(limit * rowsForEach)
  })

  test('one person, with devices, topics and attributes', async () => {
    const read = await rowsRead(async () => {
      const row = (await findUser(database, app.scope, 'p-0007777'))!
      await attributesOf(database, [row.no])
      await topicsOfUsers(database, [row.no])
      expect(await devices({ user: 'p-0007777' })).toHaveLength(1)
    })
    expect(read).toBeLessThan(40)
  })
})

describe('a target is found by reading a few rows for each device that it names, and not for each that there is', () => {
  test.each([
    [{ any: ['topic:route-2'] }, 1],
    [{ any: ['topic:route-2', 'topic:route-4'] }, 1],
    [{ any: ['topic:route-2', 'topic:route-4'], none: ['topic:route-3'] }, 2],
    [{ any: ['everyone'], all: ['topic:route-2'] }, 1],
    [{ all: ['topic:route-2', 'topic:route-1'] }, 2],
    [{ any: ['everyone'] }, 1],
  ])('%j', async (target, share) => {
    const where = { appNo: app.scope.app.no, environment: app.scope.environment }
    let found = 0
    const read = await rowsRead(async () => {
      found = (await targetDevices(database, target, where, 0, people)).length
    })
    expect(found).toBe(await countTarget(database, target, where))
    expect(found).toBeGreaterThan(people / 100)
    // A condition that leaves some out is looked at for each that it leaves out, too.
    expect(read).toBeLessThan(found * 8 * share)
  })
})

describe('a large target is estimated from a sample', () => {
  const few = { above: 5_000, people: 2_000, fewest: 100 }
  const asked = { names: ['trips', 'shoeSize'], mode: 'show' as const, exact: false, channelNo: null }
  const tally = (target: Target, how: typeof sampling, exact = false) =>
    tallyTarget(
      database,
      target,
      { appNo: app.scope.app.no, environment: app.scope.environment },
      { ...asked, exact },
      how,
    )
  const sum = (counts: readonly number[]) => counts.reduce((all, one) => all + one, 0)

  test.each<[Target]>([
    [{ any: ['everyone'] }],
    [{ any: ['topic:route-1'] }],
    [{ any: ['everyone'], none: ['topic:route-1'] }],
    [{ any: ['topic:route-1', 'topic:route-4'], none: ['topic:route-3'], platforms: ['web', 'android'] }],
  ])('%j, and comes near to what there is', async (target) => {
    const exact = await tally(target, few, true)
    expect(exact.estimated).toBe(false)
    const before = exact.people + sum(exact.groups.map(({ lackingAny }) => lackingAny))
    let estimate = exact
    const read = await rowsRead(async () => {
      estimate = await tally(target, few)
    })
    expect(estimate.estimated).toBe(true)
    // Each that is looked at costs a person, a device, two topics and two values; and as many as decide it are counted first.
    expect(read).toBeLessThan(few.above + few.people * 20)
    const devices = sum(exact.groups.map((group) => group.devices))
    expect(Math.abs(sum(estimate.groups.map((group) => group.devices)) / devices - 1)).toBeLessThan(0.15)
    const lacking = sum(estimate.groups.map((group) => group.lacking.shoeSize ?? 0))
    expect(Math.abs(lacking / before - 1)).toBeLessThan(0.15)
  })

  test('and says the same when it is asked for again', async () => {
    expect(await tally({ any: ['everyone'] }, few)).toEqual(await tally({ any: ['everyone'] }, few))
  })

  test.each([
    ['few people and many devices that are nobody’s', 3, 300, 20_000],
    ['many people and few devices that are nobody’s', 4, 20_000, 300],
  ])('of an app with %s as well, each kind by the share of it that is looked at', async (_what, appNo, own, alone) => {
    await database.change(
      sql`insert into users (app_no, environment, name, created_at, changed_at)
       select ${appNo}, 'production', concat('r-', seq), now(), now() from ${sql.raw(`seq_1_to_${own}`)}`,
    )
    const device = (user: SQL, from: number, to: number) => sql`
      insert into devices (id, app_no, environment, platform, token, token_hash, secret_hash, user_no, permission, muted,
        registered_at, seen_at, changed_at)
      select unhex(md5(concat(${appNo}, 'd', seq))), ${appNo}, 'production', 'ios', concat('r-', seq),
        unhex(sha2(concat(${appNo}, 't', seq), 256)), unhex(sha2(concat(${appNo}, 's', seq), 256)), ${user}, 'granted', false,
        now(), now(), now()
      from ${sql.raw(`seq_${from}_to_${to}`)}`
    await database.change(
      device(sql`(select min(no) from users where app_no = ${appNo} and environment = 'production') + seq - 1`, 1, own),
    )
    await database.change(device(sql`null`, own + 1, own + alone))
    const {
      groups,
      people: rung,
      estimated,
    } = await tallyTarget(
      database,
      { any: ['everyone'] },
      { appNo, environment: 'production' },
      { names: [], mode: 'show', channelNo: null, exact: false },
      few,
    )
    expect(estimated).toBe(true)
    expect(Math.abs(sum(groups.map(({ devices: found }) => found)) / (own + alone) - 1)).toBeLessThan(0.05)
    expect(Math.abs(rung / (own + alone) - 1)).toBeLessThan(0.05)
  })

  test('but counted when so few of the sample are meant that they say little', async () => {
    const target = { any: ['everyone'], all: ['topic:route-1', 'topic:route-2', 'topic:route-3'] }
    const exact = await tally(target, few, true)
    expect(sum(exact.groups.map(({ devices }) => devices))).toBeGreaterThan(0)
    expect(await tally(target, few)).toEqual(exact)
  })

  test('with the limits that ship, one of 20,000 is counted', async () => {
    expect((await tally({ any: ['everyone'] }, sampling)).estimated).toBe(false)
  })
})

describe('the members of a topic', () => {
  const numbers = async () =>
    (await listTopics(database, app.scope, limit)).map(({ name, devices: own, users: followers }) => [
      name,
      own,
      followers,
    ])

  test('are counted beforehand where they are many, so that the list reads no more than it answers', async () => {
    const counted = await numbers()
    await countMembers(database, () => true)
    expect(await numbers()).toEqual(counted)
    expect(counted).toContainEqual(['route-1', people / 10, people / 2])
    const read = await rowsRead(numbers)
    expect(read).toBeLessThan(counted.length * 3 * countedWhenAskedUpTo)
  })

  test('are counted when somebody asks, once they are few again', async () => {
    await countMembers(database, () => true)
    const topic = (await listTopics(database, app.scope, limit)).find(({ name }) => name === 'route-4')!
    const devicesOf = await database.rows<{ no: number }>(
      sql`select device_no as no from topic_devices where topic_no = ${topic.no}`,
    )
    const gone = devicesOf.map(({ no }) => no).slice(10)
    await leaveTopic(database, topic.no, { users: [], devices: gone })
    await countMembers(database, () => true)
    expect(await numbers()).toContainEqual(['route-4', 10, 0])
    await leaveTopic(database, topic.no, { users: [], devices: devicesOf.map(({ no }) => no).slice(0, 3) })
    expect(await numbers()).toContainEqual(['route-4', 7, 0])
  })
})
