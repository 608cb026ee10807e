import { and, eq, isNull, lt, sql } from 'drizzle-orm'
import { build, condition, type Database, notifications, now, select, type Tx } from '../../database/index.ts'
import { finishIfDone } from '../../deliveries/index.ts'
import { type Halt, type Pause, pauseCodes, pauseOfCode } from '../../engine/index.ts'
import { isStopped } from '../../policy/index.ts'
import { makeDue, resume, suspend } from '../../queue/index.ts'

/**
 * Holds a notification, or lets it go on. What a worker has at hand it gives up by itself as soon as it sees the change;
 * all else is suspended, resumed or ended here.
 * @returns false when it has come to its end already
 */
export const pauseNotification = (database: Database, no: number, pause: Pause): Promise<boolean> =>
  database.transact((tx) => pauseIn(tx, no, pause))

/** The same, as a part of a transaction. */
export async function pauseIn(tx: Tx, no: number, pause: Pause): Promise<boolean> {
  const [row] = await select(
    tx,
    { state: notifications.state, pause: notifications.pause },
    sql`from ${notifications} where ${notifications.no} = ${no} for update`,
  )
  if (!row || row.state === 'finished' || row.pause === pauseCodes.cancelled) return false
  await tx.change(
    sql`update notifications set pause = ${pauseCodes[pause]}, changed_at = utc_timestamp(3), version = version + 1
         ${pause === 'cancelled' ? sql`, live_name = null` : sql``} where no = ${no}`,
  )
  switch (pause) {
    case 'paused':
      await suspend(tx, no)
      break
    case 'none':
      // One that rests over its hour rings when it goes on, with all of its lifetime.
      await tx.change(
        build
          .update(notifications)
          .set({ expiresAt: sql`utc_timestamp(3) + interval ${notifications.ttlSeconds} second`, dueAt: now })
          .where(
            and(
              eq(notifications.no, no),
              eq(notifications.state, 'scheduled'),
              lt(notifications.dueAt, now),
              isNull(notifications.readerLocal),
            ),
          ),
      )
      await resume(tx, no)
      break
    case 'cancelled':
      await makeDue(tx, no)
      await finishIfDone(tx, no)
      break
    default:
      pause satisfies never
  }
  return true
}

/** How the notifications that a worker has at hand are held now. */
export async function pausesOf(database: Database, numbers: readonly number[]): Promise<Map<number, Halt>> {
  if (numbers.length === 0) return new Map()
  const rows = await select(
    database,
    { no: notifications.no, pause: notifications.pause, stopped: condition(isStopped(sql`${notifications}`)) },
    sql`from ${notifications} where ${notifications.no} in ${numbers}`,
  )
  return new Map(
    rows
      .filter(({ pause, stopped }) => pause !== 0 || stopped)
      .map(({ no, pause, stopped }) => [
        no,
        pauseOfCode(pause) === 'cancelled' || !stopped ? pauseOfCode(pause) : 'stopped',
      ]),
  )
}
