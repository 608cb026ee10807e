import {
  type AppState,
  appStates,
  codeOf,
  type DeliveryRecord,
  type DeliveryState,
  deliveryStateOfCode,
  deliveryStates,
  type Environment,
  isReceiptState,
  type Presentation,
  presentations,
  type ReceiptState,
  stepsTaken,
  withReceipt,
} from '@zbell/core'
import { eq, sql } from 'drizzle-orm'
import {
  build,
  computed,
  type Database,
  deliveries,
  devices,
  notifications as notificationsTable,
  now,
  select,
  type Tx,
  tuples,
  uuidBuffer,
} from '../../database/index.ts'
import { isSubscribed, publishDeliveries, type Step, subscribers } from '../../events/index.ts'
import { CountChanges } from './counts.ts'
import { DayCounts, type OnStep } from './day-counts.ts'

export type IncomingReceipt = {
  readonly appNo: number
  readonly environment: string
  readonly deviceNo: number
  readonly notification: string
  readonly state: ReceiptState
  readonly at: Date
  readonly action: string | null
  readonly appState: AppState | null
  readonly became: Presentation | null
}

/**
 * Stores receipts from many devices at once.
 * A receipt can come before the outcome of its own request is stored; it waits in `early_receipts` and the outcome takes
 * it in. The lock on the notification's row makes that safe: whoever comes second sees what the first one wrote.
 * @returns for each receipt whether the notification was one for its device
 */
export async function storeReceipts(
  database: Database,
  incoming: readonly IncomingReceipt[],
  onStep: OnStep = () => {},
): Promise<boolean[]> {
  const notifications = await notificationsOf(database, incoming)
  const taken = incoming.map(() => false)
  for (const [id, notification] of [...notifications].sort((a, b) => a[1].no - b[1].no)) {
    const own = incoming.flatMap((receipt, index) =>
      receipt.notification === id &&
      receipt.appNo === notification.appNo &&
      receipt.environment === notification.environment
        ? [{ receipt, index }]
        : [],
    )
    if (own.length === 0) continue
    let days = new DayCounts()
    const hits = await database.transact((tx) => {
      days = new DayCounts()
      return storeForNotification(
        tx,
        notification,
        own.map((one) => one.receipt),
        days,
      )
    })
    days.tell(onStep)
    own.forEach(({ index }, i) => {
      taken[index] = hits[i]!
    })
  }
  return taken
}

type Known = {
  readonly no: number
  readonly appNo: number
  readonly environment: Environment
  readonly channelNo: number
}

async function notificationsOf(database: Database, incoming: readonly IncomingReceipt[]): Promise<Map<string, Known>> {
  const ids = [...new Set(incoming.map((receipt) => receipt.notification))]
  const rows = await select(
    database,
    {
      no: notificationsTable.no,
      id: notificationsTable.id,
      appNo: notificationsTable.appNo,
      environment: notificationsTable.environment,
      channelNo: computed<number>(sql`coalesce(${notificationsTable.channelNo}, 0)`),
    },
    sql`from ${notificationsTable} where ${notificationsTable.id} in ${ids.map(uuidBuffer)}`,
  )
  return new Map(rows.map((row) => [row.id, row]))
}

/** That a device reported is kept to the minute: it does so thousands of times in a broadcast's first seconds. */
const noteReceipts = (tx: Tx, deviceNos: readonly number[]) =>
  tx.change(
    build
      .update(devices)
      .set({ receiptAt: now })
      .where(
        sql`${devices.no} in ${deviceNos} and (${devices.receiptAt} is null
          or ${devices.receiptAt} < utc_timestamp(3) - interval 1 minute)`,
      ),
  )

type DeliveryRaw = {
  deviceNo: number
  platform: number
  state: number
  reason: number
  action: string | null
  appState: number | null
  became: number | null
  acceptedAt: Date | null
  receivedAt: Date | null
  shownAt: Date | null
  dismissedAt: Date | null
  openedAt: Date | null
}

async function storeForNotification(
  tx: Tx,
  known: Known,
  receipts: readonly IncomingReceipt[],
  days: DayCounts,
): Promise<boolean[]> {
  const { no } = known
  await tx.change(
    build
      .update(notificationsTable)
      .set({ changedAt: now, version: sql`${notificationsTable.version} + 1` })
      .where(eq(notificationsTable.no, no)),
  )
  const [notification] = await select(
    tx,
    {
      state: notificationsTable.state,
      createdAt: notificationsTable.createdAt,
      now: computed<Date>(sql`utc_timestamp(3)`),
    },
    sql`from ${notificationsTable} where ${notificationsTable.no} = ${no}`,
  )
  if (!notification) return receipts.map(() => false)
  const rows = await select(
    tx,
    {
      deviceNo: deliveries.deviceNo,
      platform: deliveries.platform,
      state: deliveries.state,
      reason: deliveries.reason,
      action: deliveries.action,
      appState: deliveries.appState,
      became: deliveries.became,
      acceptedAt: deliveries.acceptedAt,
      receivedAt: deliveries.receivedAt,
      shownAt: deliveries.shownAt,
      dismissedAt: deliveries.dismissedAt,
      openedAt: deliveries.openedAt,
    },
    sql`from ${deliveries} where ${deliveries.notificationNo} = ${no}
        and ${deliveries.deviceNo} in ${receipts.map((receipt) => receipt.deviceNo)}`,
  )
  const stored = new Map<number, DeliveryRaw>(rows.map((row) => [row.deviceNo, { ...row }]))
  const records = new Map(rows.map((row) => [row.deviceNo, recordOf(row)]))
  const changed = new Map<number, unknown[]>()
  const early: unknown[][] = []
  const acted = new Map<number, string>()
  await noteReceipts(
    tx,
    receipts.map((receipt) => receipt.deviceNo),
  )
  const hits = receipts.map((receipt) => {
    // A phone's clock may be wrong; a receipt cannot be older than its notification, nor come from the future.
    const at = new Date(
      Math.min(Math.max(receipt.at.getTime(), notification.createdAt.getTime()), notification.now.getTime()),
    )
    const row = stored.get(receipt.deviceNo)
    const record = records.get(receipt.deviceNo)
    if (!row || !record) {
      if (notification.state === 'finished') return false
      early.push([
        no,
        receipt.deviceNo,
        deliveryStates[receipt.state],
        receipt.action,
        codeOf(appStates, receipt.appState),
        codeOf(presentations, receipt.became),
        at,
      ])
      return true
    }
    const next = withReceipt(record, receipt.state, at.getTime())
    if (next !== record) {
      records.set(receipt.deviceNo, next)
      // Where the app was when it arrived, not when it was opened: the first that says so counts.
      row.appState ??= receipt.state === 'opened' ? null : codeOf(appStates, receipt.appState)
      row.became ??= codeOf(presentations, receipt.became)
      if (receipt.state === 'opened' && row.action === null && receipt.action !== null) {
        row.action = receipt.action
        acted.set(receipt.deviceNo, receipt.action)
      }
      changed.set(receipt.deviceNo, [
        no,
        receipt.deviceNo,
        row.platform,
        deliveryStates[next.state],
        row.action,
        row.appState,
        row.became,
        ...receiptMoments(next),
      ])
    }
    return true
  })
  if (changed.size > 0) {
    const steps = new Map([...changed.keys()].map((no) => [no, { before: stored.get(no)!, after: records.get(no)! }]))
    await countSteps(tx, known, notification.createdAt, steps, days)
    await tellSteps(tx, known, steps, acted)
    await tx.change(
      sql`insert into deliveries (notification_no, device_no, platform, state, action, app_state, became, received_at, shown_at, dismissed_at, opened_at)
          values ${tuples([...changed.values()])} on duplicate key update state = value(state),
          action = value(action), app_state = value(app_state), became = value(became),
          received_at = value(received_at), shown_at = value(shown_at), dismissed_at = value(dismissed_at),
          opened_at = value(opened_at), reason = if(state < 10, 0, reason)`,
    )
  }
  if (early.length > 0) {
    await tx.change(
      sql`insert ignore into early_receipts (notification_no, device_no, state, action, app_state, became, at) values ${tuples(early)}`,
    )
  }
  return hits
}

/** Moves what a notification and the day count from the states before to those after. */
async function countSteps(
  tx: Tx,
  known: Known,
  createdAt: Date,
  steps: ReadonlyMap<number, { readonly before: DeliveryRaw; readonly after: DeliveryRecord }>,
  days: DayCounts,
): Promise<void> {
  const counts = new CountChanges()
  for (const { before, after } of steps.values()) {
    const { platform, state, reason } = before
    const now = deliveryStates[after.state]
    counts.addCodes(platform, state, reason, -1)
    counts.addCodes(platform, now, now < 10 ? 0 : reason, 1)
    const taken = stepsTaken(recordOf(before).moments, after.moments, createdAt.getTime())
    for (const step of taken) days.add(platform, step.state, 0, step.durationMs)
  }
  await counts.store(tx, known.no)
  await days.store(tx, known)
}

/** Lets those who listen hear what devices reported. */
async function tellSteps(
  tx: Tx,
  known: Known,
  steps: ReadonlyMap<number, { readonly before: DeliveryRaw; readonly after: DeliveryRecord }>,
  acted: ReadonlyMap<number, string>,
): Promise<void> {
  const all = await subscribers(tx, known)
  if (!receiptKinds.some((kind) => isSubscribed(all, kind))) return
  const rows = await select(
    tx,
    { deviceNo: devices.no, userNo: devices.userNo },
    sql`from ${devices} where ${devices.no} in ${[...steps.keys()]}`,
  )
  const told = rows.flatMap((device) => {
    const { before, after } = steps.get(device.deviceNo)!
    return reportedSteps(recordOf(before).moments, after.moments, device, acted.get(device.deviceNo) ?? null)
  })
  await publishDeliveries(tx, known.no, all, told)
}

const receiptKinds = [
  'delivery.received',
  'delivery.shown',
  'delivery.opened',
  'delivery.action',
  'delivery.dismissed',
] as const
const reportedStates = ['received', 'shown', 'opened', 'dismissed'] as const

/** What a device has reported between two moments. */
export function reportedSteps(
  before: DeliveryRecord['moments'],
  after: DeliveryRecord['moments'],
  { deviceNo, userNo }: { readonly deviceNo: number; readonly userNo?: number | null | undefined },
  action: string | null,
): Step[] {
  return reportedStates.flatMap((state): Step[] => {
    const atMs = after[state]
    if (atMs === undefined || before[state] !== undefined) return []
    const step = { deviceNo, userNo, atMs }
    const pressed = state === 'opened' && action !== null
    return [
      { ...step, kind: `delivery.${state}` },
      ...(pressed ? [{ ...step, kind: 'delivery.action' as const, action }] : []),
    ]
  })
}

const recordOf = (row: DeliveryRaw): DeliveryRecord => ({
  state: deliveryStateOfCode(row.state),
  moments: momentsOf({
    accepted: row.acceptedAt,
    received: row.receivedAt,
    shown: row.shownAt,
    dismissed: row.dismissedAt,
    opened: row.openedAt,
  }),
})

const momentsOf = (dates: Partial<Record<DeliveryState, Date | null>>): DeliveryRecord['moments'] =>
  Object.fromEntries(Object.entries(dates).flatMap(([state, at]) => (at ? [[state, at.getTime()]] : [])))

/** The four moments that receipts fill, in the order of their columns. */
export const receiptMoments = (record: DeliveryRecord): (Date | null)[] =>
  (['received', 'shown', 'dismissed', 'opened'] as const).map((state) => {
    const at = record.moments[state]
    return at === undefined ? null : new Date(at)
  })

/** Puts receipts that came early on what the outcome made of a delivery. */
export function takeEarly(record: DeliveryRecord, early: readonly { state: number; at: Date }[]): DeliveryRecord {
  return early.reduce((now, one) => {
    const state = deliveryStateOfCode(one.state)
    return isReceiptState(state) ? withReceipt(now, state, one.at.getTime()) : now
  }, record)
}
