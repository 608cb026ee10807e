import { createHash, randomBytes } from 'node:crypto'
import { afterAll, beforeAll, beforeEach, describe, expect, test } from '@jest/globals'
import { uuidV7 } from '@zbell/core'
import { sql } from 'drizzle-orm'
import fc from 'fast-check'
import type { Scope } from '../src/store/apps/apps.ts'
import type { Database } from '../src/store/database.ts'
import { changeDevice, TokenNotOwn, unregisterDevice } from '../src/store/devices/change-device.ts'
import { listEvents } from '../src/store/devices/device-events.ts'
import { findDevicesBySecrets } from '../src/store/devices/read-devices.ts'
import { type NewDevice, registerDevice } from '../src/store/devices/register-device.ts'
import { type Registered, registerDevices } from '../src/store/devices/register-devices.ts'
import { type Scratch, scratchApp } from './scratch-database.ts'

let scratch: Scratch
let database: Database
let scope: Scope
beforeAll(async () => {
  ;({ scratch, database, scope } = await scratchApp())
})
afterAll(() => scratch.close())
const empty = async () => {
  for (const table of ['devices', 'device_tokens', 'device_events', 'users'])
    await database.change(sql`delete from ${sql.raw(table)}`)
}
beforeEach(empty)

const addressOf = (token: string) => ({
  token,
  tokenHash: createHash('sha256').update(token).digest(),
  p256dh: null,
  auth: null,
})
const nothing = { allows: null, locale: null, timeZone: null, appVersion: null, systemVersion: null, model: null }

type More = { user?: string; permission?: string }

const deviceFor = (installation: string | null, token: string, more: More = {}): NewDevice => ({
  id: uuidV7(Date.now(), randomBytes(10)),
  platform: 'ios',
  installation,
  address: addressOf(token),
  secretHash: randomBytes(32),
  muted: false,
  user: null,
  permission: 'granted',
  ...nothing,
  ...more,
})

async function register(installation: string | null, token: string, more: More = {}) {
  const device = deviceFor(installation, token, more)
  const kept = await registerDevice(database, scope, device)
  return { kept, device: (await findDevicesBySecrets(database, [device.secretHash]))[0]?.device }
}

const registerTogether = async (devices: readonly NewDevice[]): Promise<Registered[]> =>
  (
    await registerDevices(
      database,
      devices.map((device) => ({ scope, device })),
    )
  ).map((one) => {
    if (one.status === 'rejected') throw one.reason
    return one.value
  })

type Row = { no: number; installation: string | null; token: string; retired: number; reason: string | null }
const rows = () =>
  database.rows<Row>(
    sql`select no, installation, token, retired_at is not null as retired, retired_reason as reason from devices order by no`,
  )
const eventsOf = async (no: number) => (await listEvents(database, no, 50)).map(({ event }) => event)

describe('one installation is one device', () => {
  test('the same again, and the same with a new token', async () => {
    const first = await register('phone-1', 'token-1')
    const again = await register('phone-1', 'token-1')
    const moved = await register('phone-1', 'token-2')
    expect([again.device?.no, moved.device?.no]).toEqual([first.device?.no, first.device?.no])
    expect(await rows()).toMatchObject([{ installation: 'phone-1', token: 'token-2', retired: 0 }])
    expect(await eventsOf(first.device!.no)).toEqual(['new-token'])
  })

  test('the app installed anew on the same phone', async () => {
    const first = await register('before', 'token-1')
    await register('after', 'token-1')
    expect(await rows()).toMatchObject([{ no: first.device?.no, installation: 'after', token: 'token-1' }])
    expect(await eventsOf(first.device!.no)).toEqual(['reinstalled'])
  })

  test('two installations that claim one token: it rings whoever came last, and the other is kept for the record', async () => {
    const first = await register('phone-1', 'token-1')
    const second = await register('phone-2', 'token-2')
    await register('phone-2', 'token-1')
    expect(await rows()).toMatchObject([
      { no: first.device?.no, token: '', retired: 1, reason: 'token-moved' },
      { no: second.device?.no, token: 'token-1', retired: 0 },
    ])
    const back = await register('phone-1', 'token-3')
    expect(back.device).toMatchObject({ no: first.device?.no, retiredAt: null })
    expect(await eventsOf(first.device!.no)).toEqual(['revived', 'new-token', 'token-moved'])
  })

  test('a token that comes back after it was gone', async () => {
    const { device } = await register('phone-1', 'token-1')
    await database.change(sql`update devices set retired_at = now(3), retired_reason = 'token-gone'`)
    const back = await register('phone-1', 'token-1')
    expect(back.device).toMatchObject({ no: device?.no, retiredAt: null })
  })

  test('two phones restored from one backup become two devices, and neither takes the other’s rings', async () => {
    const old = await register('phone-1', 'token-old')
    const restored = await register('phone-1', 'token-new')
    const oldAgain = await register('phone-1', 'token-old')
    expect(restored.device?.no).toBe(old.device?.no)
    expect(oldAgain.device?.no).not.toBe(old.device?.no)
    expect(oldAgain.kept).not.toBe('phone-1')
    await register('phone-1', 'token-new')
    await register(oldAgain.kept, 'token-old')
    expect(await rows()).toMatchObject([
      { installation: 'phone-1', token: 'token-new', retired: 0 },
      { installation: oldAgain.kept, token: 'token-old', retired: 0 },
    ])
    // Both also hold the same secret; with it neither gets the other's token back.
    const change = changeDevice(database, scope, old.device!.no, { address: addressOf('token-old') })
    await expect(change).rejects.toThrow(TokenNotOwn)
  })

  test('somebody who signs out, says no, mutes and unregisters leaves a record of it', async () => {
    const { device } = await register('phone-1', 'token-1', { user: 'ada' })
    for (const change of [{ user: null }, { permission: 'denied' }, { muted: true }, { muted: false }])
      await changeDevice(database, scope, device!.no, change)
    await unregisterDevice(database, device!.no)
    await register('phone-1', 'token-1', { user: 'signe' })
    expect(await eventsOf(device!.no)).toEqual([
      'signed-in',
      'permission',
      'revived',
      'unregistered',
      'unmuted',
      'muted',
      'permission',
      'signed-out',
    ])
  })
})

describe('many that register together', () => {
  test('strangers go in as they are, and each gets back what is stored', async () => {
    const devices = [
      deviceFor('phone-1', 'token-1', { user: 'ada' }),
      deviceFor('phone-2', 'token-2', { user: 'ada' }),
      deviceFor(null, 'token-3'),
    ]
    const done = await registerTogether(devices)
    expect(done.map(({ stored }) => stored)).toEqual(
      (
        await findDevicesBySecrets(
          database,
          devices.map(({ secretHash }) => secretHash),
        )
      )
        .map(({ device }) => device)
        .sort((a, b) => a.no - b.no),
    )
    expect(done.map(({ stored, installation }) => [stored?.id, stored?.user, installation])).toEqual([
      [devices[0]!.id, 'ada', 'phone-1'],
      [devices[1]!.id, 'ada', 'phone-2'],
      [devices[2]!.id, null, null],
    ])
  })

  test('whoever is known stays the device that it is, between strangers', async () => {
    const known = await register('phone-1', 'token-1', { user: 'ada' })
    const [stranger, again, moved] = await registerTogether([
      deviceFor('phone-2', 'token-2'),
      deviceFor('phone-1', 'token-1', { user: 'signe' }),
      deviceFor('phone-3', 'token-2'),
    ])
    expect(again?.stored).toMatchObject({ no: known.device?.no, id: known.device?.id, user: 'signe' })
    expect(await eventsOf(known.device!.no)).toEqual(['signed-in'])
    // The same token for another installation: the app was installed anew.
    expect(moved?.stored).toMatchObject({ token: 'token-2', installation: 'phone-3' })
    expect(stranger?.installation).toBe('phone-2')
    expect(await rows()).toHaveLength(2)
  })
})

/** No duplicate, no orphan: every token and installation once, and every token rings somebody unless it was given up. */
async function isInOrder(registered: readonly string[]): Promise<void> {
  const all = await rows()
  const live = all.filter(({ retired }) => retired === 0)
  const tokens = live.map(({ token }) => token)
  expect(new Set(tokens).size).toBe(tokens.length)
  const installations = all.flatMap(({ installation }) => (installation === null ? [] : [installation]))
  expect(new Set(installations).size).toBe(installations.length)
  const givenUp = new Set(
    (await database.rows<{ hash: Buffer }>(sql`select token_hash as hash from device_tokens`)).map(({ hash }) =>
      hash.toString('hex'),
    ),
  )
  for (const token of registered) {
    const lives = tokens.includes(token)
    expect([token, lives || givenUp.has(addressOf(token).tokenHash.toString('hex'))]).toEqual([token, true])
  }
  for (const { retired, token, reason } of all) if (retired === 1) expect([token, reason]).toEqual(['', 'token-moved'])
}

const act = fc.record({ installation: fc.integer({ min: 0, max: 3 }), token: fc.integer({ min: 0, max: 4 }) })
const registrations = fc.array(
  act.map(({ installation, token }) => ({
    installation: installation === 0 ? null : `phone-${installation}`,
    token: `token-${token}`,
  })),
  { minLength: 2, maxLength: 14 },
)

test('whatever registers at once, in whatever order: no duplicate, no orphan, every token and installation once', async () => {
  await fc.assert(
    fc.asyncProperty(registrations, async (acts) => {
      await empty()
      await Promise.all(acts.map(({ installation, token }) => register(installation, token, { user: `of ${token}` })))
      await isInOrder(acts.map(({ token }) => token))
    }),
    { numRuns: 40 },
  )
})

test('nor do batches that come in at once from several processes leave any', async () => {
  await fc.assert(
    fc.asyncProperty(fc.array(registrations, { minLength: 2, maxLength: 4 }), async (batches) => {
      await empty()
      const devices = batches.map((acts) =>
        acts.map(({ installation, token }) => deviceFor(installation, token, { user: `of ${token}` })),
      )
      await Promise.all(devices.map(registerTogether))
      await isInOrder(batches.flat().map(({ token }) => token))
    }),
    { numRuns: 30 },
  )
})
