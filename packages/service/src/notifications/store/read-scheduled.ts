import { sql } from 'drizzle-orm'
import type { Notification } from '../../engine/notification.ts'
import type { Where } from '../../database/scope.ts'
import type { Database } from '../../database/database.ts'
import { holds } from '../../engine/pause-codes.ts'
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
    sql`app_no = ${appNo} and environment = ${environment} and state = 'scheduled' and hold <> ${holds.cancelled} and due_at < ${before}
        order by due_at limit ${limit}`,
  )
