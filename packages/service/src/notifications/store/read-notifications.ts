import { type Filling, type Reason, reasons, type Target, urgencies, uuidFromBytes, type Writing } from '@zbell/core'
import { type SQL, sql } from 'drizzle-orm'
import { allOf, type Database, notifications, type Scope, select, uuidBuffer } from '../../database/index.ts'
import { type Notification, pauseOfCode } from '../../engine/index.ts'
import { channelOf, isStopped } from '../../policy/index.ts'

type StoredNotification = Omit<
  Notification,
  'id' | 'target' | 'content' | 'filling' | 'urgency' | 'pause' | 'stopped' | 'channel'
> & {
  stopped: number
  channelNo: number | null
  channelName: string | null
  channelSetting: string | null
  id: Buffer
  target: unknown
  content: unknown
  filling: unknown
  pause: number
  urgency: number
}

/** Of a notification `n`. */
const columns = sql`n.no, n.id, app_no as appNo, environment, state, target, content, filling, template, name, pause,
  urgency, mode, ttl_seconds as ttlSeconds, spread_seconds as spreadSeconds, withdrawn_at as withdrawnAt, pruned_at as prunedAt,
  sent_by as sentBy, expanded, created_at as createdAt, expires_at as expiresAt, finished_at as finishedAt,
  due_at as dueAt, grace_seconds as graceSeconds, missed_at as missedAt, reader_local as readerLocal,
  reader_past as readerPast, schedule,
  changed_at as changedAt, version, ${isStopped(sql`n`)} as stopped, n.channel_no as channelNo,
  (select c.name from channels c where c.no = n.channel_no) as channelName,
  (select c.setting from channels c where c.no = n.channel_no) as channelSetting`

const parsed = <T>(value: unknown): T => (typeof value === 'string' ? JSON.parse(value) : value) as T

const notificationOf = ({ channelNo, channelName, channelSetting, ...raw }: StoredNotification): Notification => ({
  ...raw,
  stopped: raw.stopped === 1,
  channel:
    channelNo === null || channelName === null || channelSetting === null
      ? null
      : channelOf({ no: channelNo, name: channelName, setting: parsed(channelSetting) }),
  id: uuidFromBytes(raw.id),
  target: parsed<Target>(raw.target),
  content: parsed<Writing>(raw.content),
  filling: parsed<Filling | null>(raw.filling) ?? {},
  pause: pauseOfCode(raw.pause),
  urgency: urgencies[raw.urgency]!,
})

export async function findNotification(
  database: Database,
  scope: Scope,
  id: string,
): Promise<Notification | undefined> {
  const [raw] = await database.rows<StoredNotification>(
    sql`select ${columns} from notifications n where id = ${uuidBuffer(id)} and app_no = ${scope.app.no} and environment = ${scope.environment}`,
  )
  return raw && notificationOf(raw)
}

export async function findNotificationByNo(database: Database, no: number): Promise<Notification | undefined> {
  const [raw] = await database.rows<StoredNotification>(sql`select ${columns} from notifications n where no = ${no}`)
  return raw && notificationOf(raw)
}

export const notificationsByNo = (database: Database, numbers: readonly number[]): Promise<Notification[]> =>
  numbers.length === 0 ? Promise.resolve([]) : notificationsWhere(database, sql`n.no in ${numbers}`)

/** @param tail conditions, and perhaps an order and a limit */
export async function notificationsWhere(database: Database, tail: SQL): Promise<Notification[]> {
  const rows = await database.rows<StoredNotification>(sql`select ${columns} from notifications n where ${tail}`)
  return rows.map(notificationOf)
}

/** The live one of this name, or the last that had it. */
export async function findNotificationByName(
  database: Database,
  scope: Scope,
  name: string,
): Promise<Notification | undefined> {
  const [raw] = await database.rows<StoredNotification>(
    sql`select ${columns} from notifications n where app_no = ${scope.app.no} and environment = ${scope.environment}
      and name = ${name} order by no desc limit 1`,
  )
  return raw && notificationOf(raw)
}

export type NotificationPage = {
  readonly limit: number
  readonly after?: string | undefined
  readonly search?: string | undefined
  readonly user?: string | undefined
  readonly reason?: Reason | undefined
  /** Of this channel. */
  readonly channel?: string | undefined
}

/** Newest first. */
export async function listNotifications(
  database: Database,
  scope: Scope,
  page: NotificationPage,
): Promise<Notification[]> {
  const { search, user, reason, channel } = page
  const { app, environment } = scope
  const beforeNo = page.after === undefined ? Number.MAX_SAFE_INTEGER : Number(page.after)
  const conditions: SQL[] = [sql`app_no = ${app.no}`, sql`environment = ${environment}`, sql`no < ${beforeNo}`]
  if (search) {
    // As it is meant, not as a pattern. The column of the name is ASCII, and would refuse to be held against other text.
    const like = `%${search.replace(/[\\%_]/g, '\\$&')}%`
    const name = sql`convert(n.name using utf8mb4)`
    conditions.push(sql`(n.content like ${like} or n.filling like ${like} or ${name} like ${like})`)
  }
  if (channel)
    conditions.push(
      sql`n.channel_no = (select c.no from channels c
                          where c.app_no = ${app.no} and c.environment = ${environment} and c.name = ${channel})`,
    )
  if (user)
    conditions.push(
      sql`exists (select 1 from devices v join users u on u.no = v.user_no join deliveries d on d.device_no = v.no
                  where u.app_no = n.app_no and u.environment = n.environment and u.name = ${user}
                    and d.notification_no = n.no)`,
    )
  if (reason)
    conditions.push(
      sql`exists (select 1 from notification_counts c
                  where c.notification_no = n.no and c.reason = ${reasons[reason].code} and c.count > 0)`,
    )
  const rows = await database.rows<StoredNotification>(
    sql`select ${columns} from notifications n where ${allOf(conditions)} order by no desc limit ${page.limit}`,
  )
  return rows.map(notificationOf)
}

type Change = { readonly no: number; readonly version: number; readonly changedAt: Date }

const changesAtOnce = 1_000

/** What changed at or after a moment, oldest change first. */
export async function* changedNotifications(
  database: Database,
  { app, environment }: Scope,
  since: Date,
): AsyncGenerator<Change> {
  let after = { changedAt: since, no: 0 }
  for (;;) {
    const page = await select(
      database,
      { no: notifications.no, version: notifications.version, changedAt: notifications.changedAt },
      sql`from ${notifications} force index (by_change) where ${notifications.appNo} = ${app.no}
          and ${notifications.environment} = ${environment} and ${notifications.changedAt} >= ${after.changedAt}
          and (${notifications.changedAt} > ${after.changedAt} or ${notifications.no} > ${after.no})
          order by ${notifications.changedAt}, ${notifications.no} limit ${changesAtOnce}`,
    )
    yield* page
    if (page.length < changesAtOnce) return
    after = page.at(-1)!
  }
}
