import type { Filling, Writing } from '@zbell/core'
import { sql } from 'drizzle-orm'
import type { Where } from '../apps/where.ts'
import type { Database } from '../database.ts'
import { holds } from './hold-codes.ts'
import { notificationsWhere } from './read-notifications.ts'

/** What would ring by now if its app were not stopped. */
export type WaitingForStart = {
  readonly id: string
  readonly name: string | null
  readonly content: Writing
  readonly filling: Filling
  readonly sentBy: string
  /** Devices that were found, as far as they were looked for. */
  readonly devices: number
}

/** Oldest first. */
export async function waitingForStart(
  database: Database,
  { appNo, environment }: Where,
  limit: number,
): Promise<WaitingForStart[]> {
  const found = await notificationsWhere(
    database,
    sql`app_no = ${appNo} and environment = ${environment} and hold = ${holds.none}
        and (state in ('expanding', 'sending') or (state = 'scheduled' and due_at <= utc_timestamp(3)))
        order by no limit ${limit}`,
  )
  return found.map(({ id, name, content, filling, sentBy, expanded }) => ({
    id,
    name,
    content,
    filling,
    sentBy,
    devices: expanded,
  }))
}
