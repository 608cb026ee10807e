import { sql } from 'drizzle-orm'
import type { Database, Where } from '../../database/index.ts'
import { type Notification, pauseCodes } from '../../engine/index.ts'
import { notificationsWhere } from './read-notifications.ts'

/** Notifications that wait for their hour, soonest first. */
export const scheduledBefore = (
  database: Database,
  { appNo, environment }: Where,
  before: Date,
  limit: number,
): Promise<Notification[]> =>
  notificationsWhere(
    database,
    sql`app_no = ${appNo} and environment = ${environment} and state = 'scheduled' and pause <> ${pauseCodes.cancelled} and due_at < ${before}
        order by due_at limit ${limit}`,
  )
