import { eq, sql } from 'drizzle-orm'
import { build, type Database, deliveries, gatewayAnswers, notifications, now, select } from '../../database/index.ts'

/** So many rows go in one transaction, and so many notifications at one look. */
const batchSize = 10_000
const atOnce = 50

/**
 * Removes the deliveries of notifications that ended long ago; their totals stay. One that still gets receipts after that
 * takes them as for a device that it never had.
 * @returns how many notifications were pruned
 */
export async function pruneDeliveries(database: Database, days: number, mayGoOn: () => boolean): Promise<number> {
  const old = await select(
    database,
    { no: notifications.no },
    sql`from ${notifications} where ${notifications.prunedAt} is null and ${notifications.finishedAt} < utc_timestamp(3) - interval ${days} day
     order by ${notifications.finishedAt} limit ${atOnce}`,
  )
  let pruned = 0
  for (const { no } of old) {
    for (;;) {
      if (!mayGoOn()) return pruned
      const { affectedRows } = await database.change(
        build.delete(deliveries).where(eq(deliveries.notificationNo, no)).limit(batchSize),
      )
      if (affectedRows < batchSize) break
    }
    await database.change(build.delete(gatewayAnswers).where(eq(gatewayAnswers.notificationNo, no)))
    await database.change(build.update(notifications).set({ prunedAt: now }).where(eq(notifications.no, no)))
    pruned++
  }
  return pruned
}
