import {
  type Content,
  type DeliveryState,
  deliveryStateOfCode,
  type Mode,
  type Reason,
  reasonOfCode,
  type Target,
  type Urgency,
  urgencies,
  uuidFromBytes,
} from '@zbell/core'
import type { Scope } from '../apps/apps.ts'
import { uuidBuffer } from '../columns.ts'
import type { Database } from '../database.ts'

export type NotificationRow = {
  readonly no: number
  readonly id: string
  readonly appNo: number
  readonly environment: Scope['environment']
  readonly state: 'expanding' | 'sending' | 'finished'
  readonly target: Target
  readonly content: Content
  readonly urgency: Urgency
  readonly mode: Mode
  readonly ttlSeconds: number
  readonly sentBy: string
  readonly expanded: number
  readonly createdAt: Date
  readonly expiresAt: Date
  readonly finishedAt: Date | null
  readonly changedAt: Date
  /** Grows with every change. */
  readonly version: number
}

type Raw = Omit<NotificationRow, 'id' | 'target' | 'content' | 'urgency'> & {
  id: Buffer
  target: unknown
  content: unknown
  urgency: number
}

const columns = `no, id, app_no as appNo, environment, state, target, content, urgency, mode, ttl_seconds as ttlSeconds,
  sent_by as sentBy, expanded, created_at as createdAt, expires_at as expiresAt, finished_at as finishedAt,
  changed_at as changedAt, version`

const parsed = <T>(value: unknown): T => (typeof value === 'string' ? JSON.parse(value) : value) as T

const fromRaw = (raw: Raw): NotificationRow => ({
  ...raw,
  id: uuidFromBytes(raw.id),
  target: parsed<Target>(raw.target),
  content: parsed<Content>(raw.content),
  urgency: urgencies[raw.urgency]!,
})

export async function findNotification(
  database: Database,
  scope: Scope,
  id: string,
): Promise<NotificationRow | undefined> {
  const [raw] = await database.rows<Raw>(
    `select ${columns} from notifications where id = ? and app_no = ? and environment = ?`,
    [uuidBuffer(id), scope.app.no, scope.environment],
  )
  return raw && fromRaw(raw)
}

export async function findNotificationByNo(database: Database, no: number): Promise<NotificationRow | undefined> {
  const [raw] = await database.rows<Raw>(`select ${columns} from notifications where no = ?`, [no])
  return raw && fromRaw(raw)
}

/** Newest first. */
export async function listNotifications(
  database: Database,
  scope: Scope,
  page: { readonly limit: number; readonly after?: string | undefined },
): Promise<NotificationRow[]> {
  const rows = await database.rows<Raw>(
    `select ${columns} from notifications where app_no = ? and environment = ? and no < ? order by no desc limit ?`,
    [
      scope.app.no,
      scope.environment,
      page.after === undefined ? Number.MAX_SAFE_INTEGER : Number(page.after),
      page.limit,
    ],
  )
  return rows.map(fromRaw)
}

/** What changed at or after a moment, oldest change first. */
export async function changedNotifications(database: Database, scope: Scope, since: Date): Promise<NotificationRow[]> {
  const rows = await database.rows<Raw>(
    `select ${columns} from notifications where app_no = ? and environment = ? and changed_at >= ? order by changed_at limit 100`,
    [scope.app.no, scope.environment, since],
  )
  return rows.map(fromRaw)
}

export type Counted = {
  readonly states: ReadonlyMap<DeliveryState, number>
  readonly reasons: ReadonlyMap<Reason, number>
}

/** How many deliveries are in each state, and why. What is not in a row yet is queued: the caller has `expanded`. */
export async function countDeliveries(database: Database, notificationNo: number): Promise<Counted> {
  const rows = await database.rows<{ state: number; reason: number; count: number }>(
    'select state, reason, count(*) as count from deliveries where notification_no = ? group by state, reason',
    [notificationNo],
  )
  const states = new Map<DeliveryState, number>()
  const reasons = new Map<Reason, number>()
  for (const row of rows) {
    const state = deliveryStateOfCode(row.state)
    states.set(state, (states.get(state) ?? 0) + row.count)
    if (row.reason !== 0) {
      const reason = reasonOfCode(row.reason)
      reasons.set(reason, (reasons.get(reason) ?? 0) + row.count)
    }
  }
  return { states, reasons }
}
