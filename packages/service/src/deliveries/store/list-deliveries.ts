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
  wordOf,
} from '@zbell/core'
import { sql } from 'drizzle-orm'
import { allOf, type Database, deliveries, devices, select, users } from '../../database/index.ts'
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

async function storedDeliveries(
  database: Database,
  notificationNo: number,
  after: number,
  page: DeliveryPage,
): Promise<DeliveryRow[]> {
  const conditions = [
    sql`${deliveries.notificationNo} = ${notificationNo}`,
    sql`${deliveries.deviceNo} > ${after}`,
    ...(page.state === undefined ? [] : [sql`${deliveries.state} = ${deliveryStates[page.state]}`]),
    ...(page.reason === undefined ? [] : [sql`${deliveries.reason} = ${reasons[page.reason].code}`]),
    ...(page.platform === undefined ? [] : [sql`${deliveries.platform} = ${platforms.indexOf(page.platform)}`]),
    ...(page.deviceNo === undefined ? [] : [sql`${deliveries.deviceNo} = ${page.deviceNo}`]),
  ]
  const rows = await select(
    database,
    {
      deviceNo: deliveries.deviceNo,
      id: devices.id,
      token: devices.token,
      user: users.name,
      platform: deliveries.platform,
      state: deliveries.state,
      reason: deliveries.reason,
      attempts: deliveries.attempts,
      gatewayReference: deliveries.gatewayReference,
      action: deliveries.action,
      detail: deliveries.detail,
      appState: deliveries.appState,
      became: deliveries.became,
      acceptedAt: deliveries.acceptedAt,
      receivedAt: deliveries.receivedAt,
      shownAt: deliveries.shownAt,
      dismissedAt: deliveries.dismissedAt,
      openedAt: deliveries.openedAt,
      endedAt: deliveries.endedAt,
    },
    sql`from ${deliveries} join ${devices} on ${devices.no} = ${deliveries.deviceNo} left
        join ${users} on ${users.no} = ${devices.userNo} where ${allOf(conditions)} order by ${deliveries.deviceNo}
        limit ${page.limit}`,
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
      device: row.id,
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
  const rows = await select(
    database,
    { no: devices.no, id: devices.id, token: devices.token, user: users.name, platform: devices.platform },
    sql`from ${devices} left join ${users} on ${users.no} = ${devices.userNo} where ${devices.no} in ${numbers}
        order by ${devices.no}`,
  )
  return rows.map((row) => ({
    deviceNo: row.no,
    device: row.id,
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
