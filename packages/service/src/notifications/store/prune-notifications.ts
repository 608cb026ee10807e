import { inArray, sql } from 'drizzle-orm'
import { build, type Database, notifications, select } from '../../database/index.ts'

/** So many go in one transaction. */
const batchSize = 500

/**
 * Forgets notifications that ended long ago and whose deliveries are pruned, with their totals; the totals of days stay.
 * @param days since their end; at least those for which deliveries are kept
 */
export async function pruneNotifications(database: Database, days: number, mayGoOn: () => boolean): Promise<void> {
  while (mayGoOn()) {
    const old = await select(
      database,
      { no: notifications.no },
      sql`from ${notifications} force index (by_end)
          where ${notifications.prunedAt} is not null and ${notifications.finishedAt} < utc_timestamp(3) - interval ${days} day
          order by ${notifications.no} limit ${batchSize}`,
    )
    if (old.length === 0) return
    const numbers = old.map(({ no }) => no)
    await database.transact(async (tx) => {
      for (const table of [sql`notification_counts`, sql`early_receipts`, sql`gateway_answers`])
        await tx.change(sql`delete from ${table} where notification_no in ${numbers}`)
      await tx.change(build.delete(notifications).where(inArray(notifications.no, numbers)))
    })
  }
}
