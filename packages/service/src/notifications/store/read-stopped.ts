import type { Filling, Writing } from '@zbell/core'
import { inArray, sql } from 'drizzle-orm'
import { build, type Database, notifications as notificationsTable, now, type Where } from '../../database/index.ts'
import { pauseCodes } from '../../engine/index.ts'
import { dueSubjects } from '../../queue/index.ts'
import { notificationsWhere } from './read-notifications.ts'

/** What would ring by now if its app were not stopped. */
export type WaitingForStart = {
  readonly no: number
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
  // What waits for its hour, for quiet hours to end or for another try would not ring by now.
  const due = await dueSubjects(database, { appNo, environment })
  if (due.length === 0) return []
  const found = await notificationsWhere(
    database,
    sql`app_no = ${appNo} and environment = ${environment} and pause = ${pauseCodes.none} and state <> 'finished' and no in ${due}
        order by no limit ${limit}`,
  )
  return found.map(({ no, id, name, content, filling, sentBy, expanded }) => ({
    no,
    id,
    name,
    content,
    filling,
    sentBy,
    devices: expanded,
  }))
}

/** Lets those know who watch these. */
export async function noteChange(database: Database, numbers: readonly number[]): Promise<void> {
  if (numbers.length === 0) return
  await database.change(
    build
      .update(notificationsTable)
      .set({ changedAt: now, version: sql`${notificationsTable.version} + 1` })
      .where(inArray(notificationsTable.no, numbers)),
  )
}
