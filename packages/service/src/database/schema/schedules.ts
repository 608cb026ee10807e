// Notifications with a time, and what became of each time.
import type { SettledRequest } from '@zbell/contract'
import type { When } from '@zbell/core/calendar'
import { boolean, index, int, mysqlEnum, mysqlTable, uniqueIndex } from 'drizzle-orm/mysql-core'
import { appNo, asciiText, environment, instantColumn, json, rowNo, text, uuidColumn, whole } from '../columns.ts'
import { apps } from './apps.ts'

/** Named notifications with a time. `next_at` is when the next is due, and `next_id` the id that its notification will have. */
export const schedules = mysqlTable(
  'schedules',
  {
    no: int('no', { unsigned: true }).autoincrement().primaryKey(),
    appNo: appNo().references(() => apps.no),
    environment: environment(),
    name: asciiText('name', { length: 64 }).notNull(),
    timing: json('timing').$type<When>().notNull(),
    notification: json('notification').$type<SettledRequest>().notNull(),
    graceSeconds: whole('grace_seconds').notNull(),
    paused: boolean('paused').notNull(),
    nextAt: instantColumn('next_at'),
    nextId: uuidColumn('next_id').notNull(),
    version: whole('version').notNull().default(1),
    madeBy: text('made_by', { length: 220 }).notNull(),
    changedAt: instantColumn('changed_at').notNull(),
    emptyRuns: whole('empty_runs').notNull().default(0),
  },
  (table) => [
    index('by_app').on(table.appNo, table.environment, table.nextAt),
    index('by_due').on(table.paused, table.nextAt),
    uniqueIndex('one_schedule').on(table.appNo, table.environment, table.name),
  ],
)

/** What became of each due time. A time is there once, whatever the clock does. */
export const scheduleRuns = mysqlTable(
  'schedule_runs',
  {
    no: rowNo(),
    scheduleNo: whole('schedule_no').notNull(),
    dueAt: instantColumn('due_at').notNull(),
    state: mysqlEnum('state', ['rung', 'missed', 'skipped', 'failed']).notNull(),
    says: text('says', { length: 300 }),
    notificationId: uuidColumn('notification_id'),
    settledAt: instantColumn('settled_at').notNull(),
  },
  (table) => [
    index('by_state').on(table.state, table.settledAt),
    uniqueIndex('one_time').on(table.scheduleNo, table.dueAt),
  ],
)
