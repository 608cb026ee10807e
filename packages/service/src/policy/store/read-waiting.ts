import { reasons } from '@zbell/core'
import { sql } from 'drizzle-orm'
import { computed, type Database, notifications, type Scope, select, type Where } from '../../database/index.ts'
import { readQueue, wake } from '../../queue/index.ts'

export type Waiting = {
  /** Devices whose turn has come. */
  readonly due: number
  /** Devices that wait for another try, or for their time. */
  readonly later: number
  readonly paused: number
  /** When the oldest notification was written whose devices' turn has come. */
  readonly oldestDueAt: Date | null
}

/** How many devices of an app wait to be rung, and since when. */
export async function readWaiting(database: Database, { app, environment }: Scope): Promise<Waiting> {
  const of = { appNo: app.no, environment, kind: 'send' }
  const { due, later, suspended, dueSubjects } = await readQueue(database, of)
  const [oldest] =
    dueSubjects.length === 0
      ? []
      : await select(
          database,
          { at: computed<Date>(sql`min(${notifications.createdAt})`) },
          sql`from ${notifications} where ${notifications.no} in ${dueSubjects}`,
        )
  return { due, later, paused: suspended, oldestDueAt: oldest?.at ?? null }
}

/**
 * Looks again at once at what waits in an app for quiet hours to end: the app's were changed. What still has to wait does. Where
 * those of one person were, `wakePerson` takes out their devices alone.
 */
export const wakeQuiet = (database: Database, of: Where): Promise<void> =>
  wake(database, { ...of, cause: reasons['quiet-hours'].code })

/** Sends at once what waits in an app for its credential or its gateway profile to be mended. */
export async function wakeRejected(
  database: Database,
  of: { readonly appNo: number; readonly environment: Scope['environment'] },
): Promise<void> {
  await wake(database, { ...of, cause: reasons['credential-rejected'].code })
  await wake(database, { ...of, cause: reasons['profile-at-fault'].code })
}
