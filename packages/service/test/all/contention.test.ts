import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import { sql } from 'drizzle-orm'
import { type Connection, createConnection, type RowDataPacket } from 'mysql2/promise'
import { fillDevices } from '../../../../e2e/harness/fleet.ts'
import { Milestones } from '../../src/apps/store/milestones.ts'
import { Database } from '../../src/database/database.ts'
import { DatabaseBusy, DatabaseUnavailable, translateError } from '../../src/database/errors.ts'
import { countDeliveries } from '../../src/deliveries/store/counts.ts'
import type { WorkStore } from '../../src/engine/ports.ts'
import { findNotification } from '../../src/notifications/store/read-notifications.ts'
import { workStore } from '../../src/sending/work-store.ts'
import { type ScratchApp, scratchApp } from '../scratch-database.ts'
import { createNotification, newNotification } from '../scratch-notification.ts'

let app: ScratchApp
/** One that gives up soon. */
let hasty: Database
let blocker: Connection

beforeAll(async () => {
  app = await scratchApp()
  const { url } = app.scratch
  hasty = new Database({
    url,
    connections: 8,
    lockWaitSeconds: 1,
    retry: { withinMs: 1_500, firstMs: 2, maxMs: 50 },
  })
  blocker = await createConnection(url)
  await app.database.change(sql`create table piers (no int primary key, ferries int not null)`)
  await app.database.change(sql`insert into piers values (1, 0), (2, 0), (3, 0)`)
})
afterAll(async () => {
  await blocker.end()
  await hasty.close()
  await app.scratch.close()
})

test('transactions that deadlock each other all the time go through in the end, each once', async () => {
  const crossing = (from: number, to: number) =>
    app.database.transact(async (tx) => {
      await tx.change(sql`update piers set ferries = ferries - 1 where no = ${from}`)
      await tx.change(sql`update piers set ferries = ferries + 1 where no = ${to}`)
    })
  const both = Array.from({ length: 60 }, (_, i) => (i % 2 ? crossing(1, 2) : crossing(2, 1)))
  await Promise.all(both)
  expect(await app.database.rows(sql`select no, ferries from piers`)).toEqual([
    { no: 1, ferries: 0 },
    { no: 2, ferries: 0 },
    { no: 3, ferries: 0 },
  ])
})

test('whoever loses for too long is told so by its kind, and has stored nothing', async () => {
  await blocker.query('start transaction')
  await blocker.query('update piers set ferries = 9 where no = 3')
  const lost = hasty.transact(async (tx) => {
    await tx.change(sql`update piers set ferries = 7 where no = 1`)
    await tx.change(sql`update piers set ferries = 7 where no = 3`)
  })
  await expect(lost).rejects.toBeInstanceOf(DatabaseBusy)
  await expect(lost).rejects.toBeInstanceOf(DatabaseUnavailable)
  await blocker.query('rollback')
  expect(await app.database.rows(sql`select ferries from piers where no in (1, 3)`)).toEqual([
    { ferries: 0 },
    { ferries: 0 },
  ])
})

describe('a connection that is lost in the middle of a statement', () => {
  /** Ends the connection that runs this statement, as soon as it does. */
  const endConnectionOf = async (statement: string) => {
    for (;;) {
      const [rows] = await blocker.query<RowDataPacket[]>(
        'select id from information_schema.processlist where info like ? and id <> connection_id()',
        [`%${statement}%`],
      )
      if (rows[0]) return blocker.query(`kill ${rows[0].id}`)
    }
  }

  test('costs a read nothing: it is read again on another', async () => {
    const reading = app.database.rows(sql`select sleep(0.4) as slept, 'a lasting read' as what`)
    await endConnectionOf('a lasting read')
    expect(await reading).toEqual([{ slept: 0, what: 'a lasting read' }])
  })

  test('is said of a change, which may have been carried out, with the driver’s code', async () => {
    const changing = app.database.change(
      sql`update piers set ferries = ferries + sleep(0.4) where no = 2 /* lasting */`,
    )
    await Promise.all([
      expect(changing).rejects.toMatchObject({ name: 'DatabaseUnavailable', code: expect.stringMatching(/^[A-Z_]+$/) }),
      endConnectionOf('lasting */'),
    ])
  })
})

test.each(['PROTOCOL_SEQUENCE_TIMEOUT', 'POOL_ENQUEUELIMIT', 'ER_CON_COUNT_ERROR'])(
  '%s is said of a database that is there and has no time',
  (code) => {
    expect(translateError(Object.assign(new Error(), { code }))).toMatchObject({ name: 'DatabaseBusy', code })
  },
)

async function claimedBlock(store: WorkStore) {
  const given = newNotification({ ttlSeconds: 600 })
  await createNotification(app.database, app.scope, given, { leaseMs: 0 })
  const row = (await findNotification(app.database, app.scope, given.id))!
  const { claim: expand } = (await store.claim([], 0))!
  await store.expandPage(expand, row)
  const { claim } = (await store.claim([], 0))!
  if (claim.kind !== 'send') throw new Error('a block was wanted')
  return { claim, row }
}

test('outcomes that are known are kept while other transactions win, and stored once they do not', async () => {
  await fillDevices(app.scratch.url, ['a', 'b', 'c'], { appNo: app.scope.app.no })
  const giveUp = new AbortController()
  const store = workStore(hasty, new Milestones(hasty), 60_000, giveUp.signal)
  const { claim, row } = await claimedBlock(store)
  await blocker.query('start transaction')
  await blocker.query('select 1 from notifications where no = ? for update', [row.no])
  let stored: boolean | undefined
  const storing = store
    .storeOutcomes(claim, {
      ended: claim.devices.map((deviceNo) => ({
        deviceNo,
        platform: 'ios',
        state: 'accepted',
        attempts: 1,
        atMs: Date.now(),
      })),
      remaining: [],
      retries: [],
    })
    .then((held) => {
      stored = held
    })
  // Longer than one whole retry: it has been given up once, and begun again.
  await new Promise((done) => setTimeout(done, 3_500))
  expect(stored).toBeUndefined()
  await blocker.query('rollback')
  await storing
  expect(stored).toBe(true)
  expect(Object.fromEntries((await countDeliveries(app.database, row.no)).states)).toEqual({ accepted: 3 })
  expect(await findNotification(app.database, app.scope, row.id)).toMatchObject({ state: 'finished' })
})
