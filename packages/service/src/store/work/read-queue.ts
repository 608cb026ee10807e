import type { Scope } from '../apps/apps.ts'
import type { Database } from '../database.ts'

export type Queue = {
  /** Devices whose turn has come. */
  readonly due: number
  /** Devices that wait for another try, or for their time. */
  readonly later: number
  readonly paused: number
  readonly oldestDueAt: Date | null
}

/** How much of an app's work waits, and since when. */
export async function readQueue(database: Database, { app, environment }: Scope): Promise<Queue> {
  const [row] = await database.rows<{
    due: string | null
    later: string | null
    paused: string | null
    oldestDueAt: Date | null
  }>(
    `select sum(if(w.leased or w.available_at <= utc_timestamp(3), w.size, 0)) as due,
       sum(if(not w.leased and w.available_at > utc_timestamp(3) and w.available_at < '3000-01-01', w.size, 0)) as later,
       sum(if(w.available_at >= '3000-01-01', w.size, 0)) as paused,
       min(if(w.leased or w.available_at <= utc_timestamp(3), n.created_at, null)) as oldestDueAt
     from work w join notifications n on n.no = w.notification_no
     where w.app_no = ? and n.environment = ? and w.kind = 'send'`,
    [app.no, environment],
  )
  return {
    due: Number(row?.due ?? 0),
    later: Number(row?.later ?? 0),
    paused: Number(row?.paused ?? 0),
    oldestDueAt: row?.oldestDueAt ?? null,
  }
}
