import { afterAll, beforeAll, beforeEach, expect, test } from '@jest/globals'
import { sql } from 'drizzle-orm'
import type { Database, Tx } from '../src/database/database.ts'
import { DatabaseUnavailable } from '../src/database/errors.ts'
import { countDeliveries } from '../src/deliveries/store/counts.ts'
import { storeOutcomes } from '../src/deliveries/store/store-outcomes.ts'
import type { Claim, Ended } from '../src/engine/work.ts'
import { findNotification, findNotificationByNo } from '../src/notifications/store/read-notifications.ts'
import { expandPage } from '../src/sending/store/expand-page.ts'
import { workStore } from '../src/sending/work-store.ts'
import { addDevice, around, type ScratchApp, scratchApp } from './scratch-database.ts'
import { claimNext, createNotification, newNotification } from './scratch-notification.ts'

const leaseMs = 10_000
let app: ScratchApp
beforeAll(async () => {
  app = await scratchApp()
})
afterAll(() => app?.scratch.close())
beforeEach(async () => {
  for (const table of ['work', 'notifications', 'deliveries', 'devices'])
    await app.database.change(sql`delete from ${sql.identifier(table)}`)
})

/** A block of devices that this process holds. */
async function block(devices: readonly number[]): Promise<Claim> {
  const { database, scope } = app
  for (const no of devices) await addDevice(app, no)
  const given = newNotification()
  await createNotification(database, scope, given, { leaseMs: 0 })
  const notification = await findNotification(database, scope, given.id)
  await expandPage(database, (await claimNext(database, leaseMs))!, notification!, leaseMs)
  return (await claimNext(database, leaseMs))!
}
const accepted = (deviceNo: number): Ended => ({
  deviceNo,
  platform: 'ios',
  state: 'accepted',
  attempts: 1,
  atMs: Date.now(),
})
const storeOver = (database: Database) => workStore(database, {} as never, leaseMs, new AbortController().signal)
const acceptedOf = async ({ notificationNo }: Claim) =>
  (await countDeliveries(app.database, notificationNo)).states.get('accepted')

/** The first commit is stored, and its answer never comes. */
function losesAnswersToCommits(real: Database): Database {
  let lost = false
  return around(real, {
    transact: async <T>(work: (tx: Tx) => Promise<T>) => {
      const result = await real.transact(work)
      if (lost) return result
      lost = true
      throw new DatabaseUnavailable('the connection was lost', 'PROTOCOL_CONNECTION_LOST')
    },
  })
}

test('a block of which one device has its delivery already stores the others, and does not come again', async () => {
  const claim = await block([1, 2, 3])
  await storeOutcomes(app.database, claim, { ended: [accepted(2)], remaining: [1, 2, 3], retries: [] }, leaseMs)
  const all = { ended: [1, 2, 3].map(accepted), remaining: [], retries: [] }
  expect(await storeOver(app.database).storeOutcomes(claim, all)).toBe(true)
  expect(await acceptedOf(claim)).toBe(3)
  expect((await findNotificationByNo(app.database, claim.notificationNo))!.state).toBe('finished')
})

test('a block whose commit got no answer puts its retries into the queue once', async () => {
  const claim = await block([1, 2, 3, 4])
  const retries = [{ devices: [2], failures: 1, cause: 'gateway-busy' as const, afterMs: 60_000 }]
  const some = { ended: [accepted(1)], remaining: [3, 4], retries }
  expect(await storeOver(losesAnswersToCommits(app.database)).storeOutcomes(claim, some)).toBe(true)
  expect(await app.database.rows(sql`select size, cause > 0 as waits from work order by no`)).toEqual([
    { size: 2, waits: 0 },
    { size: 1, waits: 1 },
  ])
  expect(await acceptedOf(claim)).toBe(1)
})
