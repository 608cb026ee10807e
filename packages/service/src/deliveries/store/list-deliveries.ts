import {
  type AppState,
  appStates,
  type DeliveryState,
  deliveryStateOfCode,
  deliveryStates,
  isHandsetAddress,
  type Platform,
  type Presentation,
  platforms,
  presentations,
  type Reason,
  reasonOfCode,
  reasons,
  unpackBlock,
  uuidFromBytes,
  wordOf,
} from '@zbell/core'
import { sql } from 'drizzle-orm'
import { allOf, type Database } from '../../database/index.ts'
import { workOf } from '../../queue/index.ts'

export type DeliveryRow = {
  readonly deviceNo: number
  readonly device: string
  readonly user: string | null
  readonly platform: Platform
  readonly rehearsal: boolean
  readonly state: DeliveryState
  readonly reason: Reason | null
  readonly attempts: number
  readonly gatewayReference: string | null
  readonly appState: AppState | null
  readonly became: Presentation | null
  readonly action: string | null
  /** What the reason is about: the name of a cap. */
  readonly detail: string | null
  /** Of one in the queue: what it waits for, and until when. */
  readonly waits: { readonly reason: Reason; readonly until: Date } | null
  readonly moments: Partial<Record<DeliveryState, Date>>
}

export type DeliveryPage = {
  readonly limit: number
  readonly after?: string | undefined
  readonly state?: DeliveryState | undefined
  readonly reason?: Reason | undefined
  readonly platform?: Platform | undefined
  /** Only this device. */
  readonly deviceNo?: number | undefined
}

/**
 * The deliveries of a notification in device order. Queued ones live packed in the work that waits, the others in rows:
 * both are read from the same place on and merged.
 */
export async function listDeliveries(
  database: Database,
  notification: { readonly no: number; readonly createdAt: Date },
  page: DeliveryPage,
): Promise<DeliveryRow[]> {
  const after = page.after === undefined ? 0 : Number(page.after)
  const rows = page.state === 'queued' ? [] : await storedDeliveries(database, notification.no, after, page)
  const queued =
    (page.state === undefined || page.state === 'queued') && page.reason === undefined && page.platform === undefined
      ? await queuedDeliveries(database, notification.no, after, page)
      : []
  // A device can move from queued to a row between the two reads; the row is the newer truth.
  const stored = new Set(rows.map((row) => row.deviceNo))
  return [...rows, ...queued.filter((row) => !stored.has(row.deviceNo))]
    .sort((a, b) => a.deviceNo - b.deviceNo)
    .slice(0, page.limit)
    .map((row) => ({ ...row, moments: { queued: notification.createdAt, ...row.moments } }))
}

type StoredRow = {
  deviceNo: number
  id: Buffer
  token: string
  user: string | null
  platform: number
  state: number
  reason: number
  attempts: number
  gatewayReference: string | null
  action: string | null
  detail: string | null
  appState: number | null
  became: number | null
  acceptedAt: Date | null
  receivedAt: Date | null
  shownAt: Date | null
  dismissedAt: Date | null
  openedAt: Date | null
  endedAt: Date | null
}

async function storedDeliveries(
  database: Database,
  notificationNo: number,
  after: number,
  page: DeliveryPage,
): Promise<DeliveryRow[]> {
  const conditions = [
    sql`d.notification_no = ${notificationNo}`,
    sql`d.device_no > ${after}`,
    ...(page.state === undefined ? [] : [sql`d.state = ${deliveryStates[page.state]}`]),
    ...(page.reason === undefined ? [] : [sql`d.reason = ${reasons[page.reason].code}`]),
    ...(page.platform === undefined ? [] : [sql`d.platform = ${platforms.indexOf(page.platform)}`]),
    ...(page.deviceNo === undefined ? [] : [sql`d.device_no = ${page.deviceNo}`]),
  ]
  const rows = await database.rows<StoredRow>(
    sql`select d.device_no as deviceNo, v.id, v.token, u.name as user, d.platform, d.state, d.reason, d.attempts,
       d.gateway_reference as gatewayReference, d.action, d.detail, d.app_state as appState, d.became, d.accepted_at as acceptedAt, d.received_at as receivedAt,
       d.shown_at as shownAt, d.dismissed_at as dismissedAt, d.opened_at as openedAt, d.ended_at as endedAt
     from deliveries d join devices v on v.no = d.device_no left join users u on u.no = v.user_no
     where ${allOf(conditions)} order by d.device_no limit ${page.limit}`,
  )
  return rows.map((row) => {
    const state = deliveryStateOfCode(row.state)
    const moments = {
      accepted: row.acceptedAt,
      received: row.receivedAt,
      shown: row.shownAt,
      dismissed: row.dismissedAt,
      opened: row.openedAt,
      ...(row.endedAt ? { [state]: row.endedAt } : {}),
    }
    return {
      deviceNo: row.deviceNo,
      device: uuidFromBytes(row.id),
      user: row.user,
      platform: platforms[row.platform]!,
      rehearsal: isHandsetAddress(row.token),
      state,
      reason: row.reason === 0 ? null : reasonOfCode(row.reason),
      attempts: row.attempts,
      gatewayReference: row.gatewayReference,
      appState: wordOf(appStates, row.appState),
      became: wordOf(presentations, row.became),
      action: row.action,
      detail: row.detail,
      waits: null,
      moments: Object.fromEntries(Object.entries(moments).filter(([, at]) => at !== null)),
    }
  })
}

async function queuedDeliveries(
  database: Database,
  notificationNo: number,
  after: number,
  { limit, deviceNo }: DeliveryPage,
): Promise<DeliveryRow[]> {
  const blocks = await workOf(database, notificationNo, 'send')
  const blockOf = new Map<number, (typeof blocks)[number]>()
  for (const block of blocks)
    for (const no of unpackBlock(block.body ?? new Uint8Array()))
      if (no > after && (deviceNo === undefined || no === deviceNo)) blockOf.set(no, block)
  const numbers = [...blockOf.keys()].sort((a, b) => a - b).slice(0, limit)
  if (numbers.length === 0) return []
  const rows = await database.rows<{ no: number; id: Buffer; token: string; user: string | null; platform: Platform }>(
    sql`select v.no, v.id, v.token, u.name as user, v.platform from devices v left join users u on u.no = v.user_no
     where v.no in ${numbers} order by v.no`,
  )
  return rows.map((row) => ({
    deviceNo: row.no,
    device: uuidFromBytes(row.id),
    user: row.user,
    platform: row.platform,
    rehearsal: isHandsetAddress(row.token),
    state: 'queued',
    reason: null,
    attempts: blockOf.get(row.no)?.failures ?? 0,
    gatewayReference: null,
    appState: null,
    became: null,
    action: null,
    detail: null,
    waits: waitOf(blockOf.get(row.no)),
    moments: {},
  }))
}

function waitOf(block: { readonly cause: number; readonly dueAt: Date } | undefined): DeliveryRow['waits'] {
  if (!block || block.cause === 0) return null
  return { reason: reasonOfCode(block.cause), until: block.dueAt }
}
