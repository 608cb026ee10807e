import { createHash, randomBytes, randomUUID } from 'node:crypto'
import { afterAll, beforeAll, beforeEach, describe, expect, test } from '@jest/globals'
import { uuidV7 } from '@zbell/core'
import { sql } from 'drizzle-orm'
import { uuidBuffer } from '../src/database/columns.ts'
import type { Database } from '../src/database/database.ts'
import { removeLeftRows } from '../src/database/removals.ts'
import type { Scope } from '../src/database/scope.ts'
import { changeDevice } from '../src/devices/store/change-device.ts'
import { listEvents } from '../src/devices/store/device-events.ts'
import { ensurePersonOf } from '../src/devices/store/ensure-user.ts'
import { pruneDevices } from '../src/devices/store/prune-devices.ts'
import { findDevicesBySecrets } from '../src/devices/store/read-devices.ts'
import { registerDevice } from '../src/devices/store/register-device.ts'
import { pruneProofs, useProof } from '../src/devices/store/used-proofs.ts'
import { requireNotification } from '../src/notifications/find.ts'
import { pruneNotifications } from '../src/notifications/store/prune-notifications.ts'
import { changeAttributes } from '../src/people/store/attributes.ts'
import { occurrencesOf, pruneOccurrences, storeOccurrences } from '../src/people/store/occurrences.ts'
import {
  changeOwnTopic,
  declareTopic,
  deleteTopic,
  ensureTopic,
  findTopic,
  listTopics,
  pruneTopics,
} from '../src/people/store/topics.ts'
import { type Scratch, scratchApp } from './scratch-database.ts'
import { createNotification, newNotification } from './scratch-notification.ts'

let scratch: Scratch
let database: Database
let scope: Scope
beforeAll(async () => {
  ;({ scratch, database, scope } = await scratchApp())
})
afterAll(() => scratch.close())
beforeEach(async () => {
  for (const table of ['devices', 'device_tokens', 'device_events', 'users', 'topics', 'topic_devices', 'occurrences'])
    await database.change(sql`delete from ${sql.raw(table)}`)
})

const addressOf = (token: string) => ({
  token,
  tokenHash: createHash('sha256').update(token).digest(),
  p256dh: null,
  auth: null,
})

async function device(token: string) {
  const facts = { allows: null, locale: null, timeZone: null, appVersion: null, systemVersion: null, model: null }
  const { secretHash } = await registerDevice(database, scope, {
    ...facts,
    id: uuidV7(Date.now(), randomBytes(10)),
    platform: 'ios',
    installation: null,
    address: addressOf(token),
    secretHash: randomBytes(32),
    shownHash: null,
    permission: 'granted',
    muted: false,
    user: null,
  })
  return (await findDevicesBySecrets(database, [secretHash]))[0]!.device
}
const happened = (deviceNo: number, many: number, at = new Date()) =>
  storeOccurrences(
    database,
    scope,
    Array.from({ length: many }, (_, n) => ({
      id: randomUUID(),
      source: '/app',
      type: 'seen',
      at: new Date(at.getTime() - n),
      data: undefined,
      user: undefined,
    })),
    { is: 'device', no: deviceNo, proved: false },
  )
const count = async (table: string) =>
  Number((await database.rows<{ n: number }>(sql`select count(*) as n from ${sql.raw(table)}`))[0]!.n)
const always = () => true

describe('what one device makes', () => {
  test('is bounded: its record, its tokens, and what it reported', async () => {
    const one = await device('token-0')
    for (let n = 1; n <= 230; n++) await changeDevice(database, scope, one.no, { address: addressOf(`token-${n}`) })
    expect((await listEvents(database, one.no, 1_000)).length).toBeLessThanOrEqual(208)
    expect((await listEvents(database, one.no, 1_000)).length).toBeGreaterThanOrEqual(200)
    expect(await count('device_tokens')).toBe(20)
    const person = await database.transact((tx) => ensurePersonOf(tx, scope, one.no))
    for (let n = 0; n < 6; n++) await happened(one.no, 1_000, new Date(Date.now() + n * 60_000))
    const kept = await occurrencesOf(database, person, 10_000)
    expect(kept.length).toBeLessThanOrEqual(5_050)
    expect(kept.length).toBeGreaterThanOrEqual(5_000)
  })

  test('goes with it, when it could not be rung for long: the person without a name too, and nobody else', async () => {
    const [gone, still, named] = [await device('gone'), await device('still'), await device('named')]
    await changeDevice(database, scope, named.no, { user: 'ada' })
    for (const { no } of [gone, still]) {
      const person = await database.transact((tx) => ensurePersonOf(tx, scope, no))
      await database.transact((tx) => changeAttributes(tx, scope, person, { homePier: 'Lantern Quay' }, false))
      const topic = await database.transact((tx) => ensureTopic(tx, scope, 'route-4'))
      await changeOwnTopic(database, { no: topic, name: 'route-4' }, { no, userNo: person }, true)
    }
    await database.change(
      sql`update devices set retired_at = utc_timestamp(3) - interval 11 day, retired_reason = 'token-gone' where no in ${[gone.no, named.no]}`,
    )
    await pruneDevices(database, 12, always)
    expect(await count('devices')).toBe(3)
    await pruneDevices(database, 10, always)
    expect(await database.rows(sql`select no from devices`)).toEqual([{ no: still.no }])
    expect(await database.rows(sql`select distinct device_no as no from topic_devices`)).toEqual([{ no: still.no }])
    expect(await count(`device_events where device_no <> ${still.no}`)).toBe(0)
    // Somebody with a name is known by the app's server too.
    expect(
      (await database.rows<{ name: string | null }>(sql`select name from users order by no`)).map((u) => u.name),
    ).toEqual(expect.arrayContaining([null, 'ada']))
    expect(await count('users')).toBe(2)
  })
})

test('occurrences go by their age', async () => {
  await storeOccurrences(
    database,
    scope,
    [
      { id: '1', source: '/a', type: 'old', at: new Date(), data: undefined, user: 'ada' },
      { id: '2', source: '/a', type: 'new', at: new Date(), data: undefined, user: 'ada' },
    ],
    { is: 'server' },
  )
  await database.change(sql`update occurrences set taken_at = utc_timestamp(3) - interval 31 day where type = 'old'`)
  await pruneOccurrences(database, 30, always)
  expect(await database.rows(sql`select type from occurrences`)).toEqual([{ type: 'new' }])
})

test('topics that devices made go when everybody has left and a day is over; those that were declared stay', async () => {
  for (const name of ['left', 'joined', 'young', 'declared'])
    await database.transact((tx) => ensureTopic(tx, scope, name))
  const { no } = await device('token')
  const [joined] = await database.rows<{ no: number }>(sql`select no from topics where name = 'joined'`)
  await changeOwnTopic(database, { no: joined!.no, name: 'joined' }, { no, userNo: null }, true)
  await database.change(sql`update topics set created_at = utc_timestamp(3) - interval 2 day where name <> 'young'`)
  await database.change(sql`update topics set declared = true where name = 'declared'`)
  await pruneTopics(database)
  expect((await listTopics(database, scope, 10)).map(({ name }) => name)).toEqual(['declared', 'joined', 'young'])
})

test('a proof that was used is remembered for as long as it would count', async () => {
  const [hash, one, another] = [randomBytes(32), randomBytes(32), randomBytes(32)]
  const soon = new Date(Date.now() + 60_000)
  expect(await useProof(database, hash, one, soon)).toBe(true)
  expect(await useProof(database, hash, another, soon)).toBe(false)
  expect(await useProof(database, hash, one, soon)).toBe(true)
  await useProof(database, randomBytes(32), one, new Date(Date.now() - 1_000))
  await pruneProofs(database)
  expect(await count('used_proofs')).toBe(1)
})

test('a notification goes with its totals when both its ages are over, and a link to it says so', async () => {
  await database.change(sql`delete from notifications`)
  const made = async (id: string, endedDaysAgo: number, isPruned: boolean) => {
    await createNotification(database, scope, newNotification({ id }), { leaseMs: 0 })
    await database.change(
      sql`update notifications set state = 'finished', finished_at = utc_timestamp(3) - interval ${endedDaysAgo} day,
            pruned_at = ${isPruned ? sql`utc_timestamp(3)` : null} where id = ${uuidBuffer(id)}`,
    )
  }
  const old = uuidV7(Date.parse('2024-03-03T00:00:00Z'), randomBytes(10))
  await made(old, 500, true)
  await made(uuidV7(Date.now(), randomBytes(10)), 500, false)
  await made(uuidV7(Date.now(), randomBytes(10)), 100, true)
  await database.change(
    sql`insert into notification_counts (notification_no, platform, state, reason, count) select no, 0, 1, 0, 5 from notifications`,
  )
  await pruneNotifications(database, 400, () => true)
  expect(await database.rows(sql`select no from notifications`)).toHaveLength(2)
  expect(await database.rows(sql`select 1 from notification_counts`)).toHaveLength(2)
  await expect(requireNotification(database, scope, old)).rejects.toThrow('it would be of 2024-03-03')
})

test('a topic with many members is gone at once, and they go in pages that can be broken off', async () => {
  await declareTopic(database, scope, 'crowd', null)
  const { no } = (await findTopic(database, scope, 'crowd'))!
  await database.change(
    sql`insert into topic_users (topic_no, user_no, joined_at) select ${no}, seq, utc_timestamp(3) from seq_1_to_12000`,
  )
  await deleteTopic(database, no)
  expect(await findTopic(database, scope, 'crowd')).toBeUndefined()
  const left = async () =>
    (await database.rows<{ count: number }>(sql`select count(*) as count from topic_users where topic_no = ${no}`))[0]!
      .count
  let pages = 0
  await removeLeftRows(database, () => pages++ < 2)
  expect(await left()).toBeGreaterThan(0)
  await removeLeftRows(database, () => true)
  expect([await left(), await database.rows(sql`select 1 from removals`)]).toEqual([0, []])
})
