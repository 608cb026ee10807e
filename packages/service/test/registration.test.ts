import { createHash, randomBytes } from 'node:crypto'
import { afterAll, beforeAll, beforeEach, describe, expect, test } from '@jest/globals'
import { uuidV7 } from '@zbell/core'
import { sql } from 'drizzle-orm'
import fc from 'fast-check'
import type { Database } from '../src/database/database.ts'
import type { Scope } from '../src/database/scope.ts'
import { changeDevice, TokenNotOwn, unregisterDevice } from '../src/devices/store/change-device.ts'
import { listEvents } from '../src/devices/store/device-events.ts'
import { importDevices } from '../src/devices/store/import-devices.ts'
import { findDevicesBySecrets } from '../src/devices/store/read-devices.ts'
import { type NewDevice, RegisteredJustNow, registerDevice } from '../src/devices/store/register-device.ts'
import { type Registered, registerDevices } from '../src/devices/store/register-devices.ts'
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

type More = { user?: string; permission?: NewDevice['permission']; shownHash?: Buffer | null }

const deviceFor = (installation: string | null, token: string, more: More = {}): NewDevice => ({
  id: uuidV7(Date.now(), randomBytes(10)),
  platform: 'ios',
  installation,
  address: addressOf(token),
  secretHash: randomBytes(32),
  shownHash: null,
  muted: false,
  user: null,
  permission: 'granted',
  ...nothing,
  ...more,
})

async function register(installation: string | null, token: string, more: More = {}) {
  const device = deviceFor(installation, token, more)
  const { installation: kept, secretHash } = await registerDevice(database, scope, device)
  return { kept, secretHash, device: (await findDevicesBySecrets(database, [secretHash]))[0]!.device }
}
/** Longer ago than a registration is waited for. */
const later = () => database.change(sql`update devices set claimed_at = claimed_at - interval 11 second`)

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
  test('the same again, and the same with a new token: it keeps its secret, so that a lost answer can be asked for again', async () => {
    const first = await register('phone-1', 'token-1')
    const shownHash = first.secretHash
    const again = await register('phone-1', 'token-1', { shownHash })
    const moved = await register('phone-1', 'token-2', { shownHash })
    expect([again, moved].map(({ device, secretHash }) => [device.no, secretHash])).toEqual([
      [first.device.no, shownHash],
      [first.device.no, shownHash],
    ])
    expect(await rows()).toMatchObject([{ installation: 'phone-1', token: 'token-2', retired: 0 }])
    expect(await eventsOf(first.device.no)).toEqual(['new-token'])
  })

  test('within ten seconds nobody without its secret registers its token or its installation', async () => {
    await register('phone-1', 'token-1')
    for (const [installation, token] of [
      ['phone-1', 'token-1'],
      ['phone-2', 'token-1'],
      [null, 'token-1'],
      ['phone-1', 'token-2'],
    ] as const) {
      const asked = register(installation, token, { shownHash: randomBytes(32) })
      await expect(asked).rejects.toThrow(RegisteredJustNow)
    }
    expect(await rows()).toHaveLength(1)
  })

  test('the app installed anew on the same phone is a new device, with nothing of the old one’s', async () => {
    const first = await register('before', 'token-1', { user: 'ada' })
    await later()
    const anew = await register('after', 'token-1')
    expect(anew.device).toMatchObject({ installation: 'after', token: 'token-1', userNo: null })
    expect(anew.device.id).not.toBe(first.device.id)
    expect(await rows()).toMatchObject([
      { no: first.device.no, installation: 'before', token: '', retired: 1, reason: 'token-moved' },
      { no: anew.device.no, installation: 'after', token: 'token-1', retired: 0 },
    ])
  })

  test('a stolen token leads to no installation, and whose it is gets it back with its secret', async () => {
    const victim = await register('phone-of-the-victim', 'token-1', { user: 'ada' })
    await later()
    const thief = await register(null, 'token-1')
    expect([thief.kept, thief.device.id === victim.device.id, thief.device.user]).toEqual([null, false, null])
    // Even when the thief has given the token up meanwhile.
    await changeDevice(database, scope, thief.device.no, { address: addressOf('token-of-the-thief') })
    const back = await register('phone-of-the-victim', 'token-1', { shownHash: victim.secretHash, user: 'ada' })
    expect(back.device).toMatchObject({ id: victim.device.id, token: 'token-1', user: 'ada', retiredAt: null })
  })

  test('a known installation with another token is a device of its own, and retires nothing', async () => {
    const victim = await register('phone-1', 'token-1', { user: 'ada' })
    await later()
    const other = await register('phone-1', 'token-2')
    expect(other.kept).toBe(other.device.id)
    expect(await rows()).toMatchObject([
      { no: victim.device.no, installation: 'phone-1', token: 'token-1', retired: 0 },
      { installation: other.kept, token: 'token-2', retired: 0 },
    ])
    expect(await eventsOf(victim.device.no)).toEqual([])
  })

  test('a device from a file is claimed once, by its token', async () => {
    const line = { platform: 'ios', token: 'token-1', permission: 'granted', muted: false, user: 'ada' }
    expect(await importDevices(database, scope, [{ line: 1, value: line }])).toEqual([])
    const [imported] = await rows()
    const claimed = await register('phone-1', 'token-1', { user: 'ada' })
    expect(claimed.device).toMatchObject({ no: imported?.no, installation: 'phone-1', user: 'ada' })
    await expect(register('phone-2', 'token-1')).rejects.toThrow(RegisteredJustNow)
    // The file once more leaves it claimed.
    await later()
    await importDevices(database, scope, [{ line: 1, value: line }])
    expect((await register('phone-2', 'token-1')).device.no).not.toBe(imported?.no)
  })

  test('a device that takes another’s token: it rings whoever came last, and the other is kept for the record', async () => {
    const first = await register('phone-1', 'token-1')
    const second = await register('phone-2', 'token-2')
    await register('phone-2', 'token-1', { shownHash: second.secretHash })
    expect(await rows()).toMatchObject([
      { no: first.device.no, token: '', retired: 1, reason: 'token-moved' },
      { no: second.device.no, token: 'token-1', retired: 0 },
    ])
    const back = await register('phone-1', 'token-3', { shownHash: first.secretHash })
    expect(back.device).toMatchObject({ no: first.device.no, retiredAt: null })
    expect(await eventsOf(first.device.no)).toEqual(['revived', 'new-token', 'token-moved'])
  })

  test('a change tells nobody which tokens are known: it moves one as registering does', async () => {
    const first = await register('phone-1', 'token-1')
    const second = await register('phone-2', 'token-2')
    await changeDevice(database, scope, second.device.no, { address: addressOf('token-1') })
    expect(await rows()).toMatchObject([
      { token: '', retired: 1, reason: 'token-moved' },
      { token: 'token-1', retired: 0 },
    ])
    await changeDevice(database, scope, first.device.no, { address: addressOf('token-1') })
    expect(await rows()).toMatchObject([{ token: 'token-1', retired: 0 }, { retired: 1 }])
  })

  test('a token that comes back after it was gone', async () => {
    const { device, secretHash } = await register('phone-1', 'token-1')
    await database.change(sql`update devices set retired_at = now(3), retired_reason = 'token-gone'`)
    const back = await register('phone-1', 'token-1', { shownHash: secretHash })
    expect(back.device).toMatchObject({ no: device.no, retiredAt: null })
  })

  test('two phones restored from one backup become two devices, and neither takes the other’s rings', async () => {
    const old = await register('phone-1', 'token-old')
    const shownHash = old.secretHash
    const restored = await register('phone-1', 'token-new', { shownHash })
    const oldAgain = await register('phone-1', 'token-old', { shownHash })
    expect(restored.device.no).toBe(old.device.no)
    expect(oldAgain.device.no).not.toBe(old.device.no)
    expect(oldAgain.kept).not.toBe('phone-1')
    await register('phone-1', 'token-new', { shownHash })
    await register(oldAgain.kept, 'token-old', { shownHash: oldAgain.secretHash })
    expect(await rows()).toMatchObject([
      { installation: 'phone-1', token: 'token-new', retired: 0 },
      { installation: oldAgain.kept, token: 'token-old', retired: 0 },
    ])
    await unregisterDevice(database, oldAgain.device.no)
    await database.change(sql`update devices set token = '', token_hash = null where no = ${oldAgain.device.no}`)
    // With the secret that both held the token that was given up does not come back.
    const change = changeDevice(database, scope, old.device.no, { address: addressOf('token-old') })
    await expect(change).rejects.toThrow(TokenNotOwn)
  })

  test('somebody who signs out, says no, mutes and unregisters leaves a record of it', async () => {
    const { device, secretHash } = await register('phone-1', 'token-1', { user: 'ada' })
    for (const change of [{ user: null }, { permission: 'denied' as const }, { muted: true }, { muted: false }])
      await changeDevice(database, scope, device.no, change)
    await unregisterDevice(database, device.no)
    await register('phone-1', 'token-1', { user: 'signe', shownHash: secretHash })
    expect(await eventsOf(device.no)).toEqual([
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

  test('whoever shows a secret stays the device that it is, between strangers', async () => {
    const known = await register('phone-1', 'token-1', { user: 'ada' })
    const settled = await registerDevices(
      database,
      [
        deviceFor('phone-2', 'token-2'),
        deviceFor('phone-1', 'token-1', { user: 'signe', shownHash: known.secretHash }),
        deviceFor('phone-3', 'token-2'),
        deviceFor('phone-4', 'token-4'),
      ].map((device) => ({ scope, device })),
    )
    const [stranger, again, same] = settled.map((one) => (one.status === 'fulfilled' ? one.value : one.reason))
    expect(again.stored).toMatchObject({ no: known.device.no, id: known.device.id, user: 'signe' })
    expect(await eventsOf(known.device.no)).toEqual(['signed-in', 'signed-out'])
    expect(stranger.installation).toBe('phone-2')
    expect(same).toBeInstanceOf(RegisteredJustNow)
    expect(await rows()).toHaveLength(3)
  })
})

/** No duplicate, no orphan: every token and installation once, and whoever was registered is rung, or was told otherwise. */
async function isInOrder(registered: readonly string[]): Promise<void> {
  const all = await rows()
  const live = all.filter(({ retired }) => retired === 0)
  const tokens = live.map(({ token }) => token)
  expect(new Set(tokens).size).toBe(tokens.length)
  const installations = all.flatMap(({ installation }) => (installation === null ? [] : [installation]))
  expect(new Set(installations).size).toBe(installations.length)
  expect([...new Set(registered)].filter((token) => !tokens.includes(token))).toEqual([])
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
/** Those that were registered; all others have to have been told that somebody was. */
const registeredOf = (acts: readonly { token: string }[], settled: readonly PromiseSettledResult<unknown>[]) =>
  acts.flatMap(({ token }, i) => {
    const one = settled[i]!
    if (one.status === 'rejected') expect(one.reason).toBeInstanceOf(RegisteredJustNow)
    return one.status === 'fulfilled' ? [token] : []
  })

test('whatever registers at once, in whatever order: no duplicate, no orphan, every token and installation once', async () => {
  await fc.assert(
    fc.asyncProperty(registrations, fc.boolean(), async (acts, isLater) => {
      await empty()
      if (isLater) {
        for (const { installation, token } of acts.slice(0, 4))
          await register(installation, token).catch((error) => expect(error).toBeInstanceOf(RegisteredJustNow))
        await later()
      }
      const settled = await Promise.allSettled(
        acts.map(({ installation, token }) => register(installation, token, { user: `of ${token}` })),
      )
      const done = registeredOf(acts, settled)
      expect(done.length).toBeGreaterThan(0)
      await isInOrder(done)
    }),
    { numRuns: 40 },
  )
})

test('nor do batches that come in at once from several processes leave any', async () => {
  await fc.assert(
    fc.asyncProperty(fc.array(registrations, { minLength: 2, maxLength: 4 }), async (batches) => {
      await empty()
      const settled = await Promise.all(
        batches.map((acts) =>
          registerDevices(
            database,
            acts.map(({ installation, token }) => ({
              scope,
              device: deviceFor(installation, token, { user: `of ${token}` }),
            })),
          ),
        ),
      )
      await isInOrder(registeredOf(batches.flat(), settled.flat()))
    }),
    { numRuns: 30 },
  )
})
