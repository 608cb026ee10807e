import { and, eq, isNull, lt, sql } from 'drizzle-orm'
import {
  appStops,
  build,
  type Database,
  incoming,
  inWhere,
  notifications,
  now,
  type Tx,
  type Where,
} from '../../database/index.ts'
import { pauseCodes } from '../../engine/index.ts'
import { appsWithParkedWork, type ClaimRef, park, release, unpark } from '../../queue/index.ts'

/** Stops an app and parks its work. A stop that stands already keeps who said it first. */
export async function stopApp(
  database: Database,
  where: Where,
  { reason, by }: { readonly reason: string; readonly by: string },
): Promise<void> {
  await database.transact(async (tx) => {
    await tx.change(
      build
        .insert(appStops)
        .values({ appNo: where.appNo, environment: where.environment, reason, stoppedBy: by, stoppedAt: now })
        .onDuplicateKeyUpdate({ set: { reason: incoming(appStops.reason) } }),
    )
    await park(tx, where)
  })
}

/** Starts an app: its stop goes, its work is unparked, and what came to its hour meanwhile rings with all of its lifetime. */
export async function startApp(database: Database, where: Where): Promise<void> {
  await database.transact(async (tx) => {
    await tx.change(build.delete(appStops).where(inWhere(where)))
    await resumeLate(tx, where)
    await unpark(tx, where)
  })
}

/**
 * Parks a claimed piece of work and all else of its app, if the app is stopped. The stop is held until both are stored: who starts
 * the app meanwhile waits for that, and unparks what was parked here.
 * @returns false when the app is not stopped (any more): nothing was changed
 */
export const parkIfStopped = (database: Database, work: ClaimRef & Where): Promise<boolean> =>
  database.transact(async (tx) => {
    const stops = await tx.rows(sql`select 1 from app_stops where ${inWhere(work)} lock in share mode`)
    if (stops.length === 0) return false
    await release(tx, work, { afterMs: 0 })
    await park(tx, work)
    return true
  })

/** Unparks work whose app is not stopped: nobody else would. */
export async function unparkForgotten(database: Database): Promise<void> {
  for (const where of await appsWithParkedWork(database))
    await database.transact(async (tx) => {
      const stops = await tx.rows(sql`select 1 from app_stops where ${inWhere(where)} for update`)
      if (stops.length === 0) await unpark(tx, where)
    })
}

/** What came to its hour while its app was stopped rings when it is started, with all of its lifetime. */
async function resumeLate(tx: Tx, where: Where): Promise<void> {
  await tx.change(
    build
      .update(notifications)
      .set({ expiresAt: sql`utc_timestamp(3) + interval ${notifications.ttlSeconds} second`, dueAt: now })
      .where(
        and(
          inWhere(where),
          eq(notifications.state, 'scheduled'),
          eq(notifications.pause, pauseCodes.none),
          lt(notifications.dueAt, now),
          isNull(notifications.readerLocal),
        ),
      ),
  )
}
