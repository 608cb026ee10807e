/**
 * A delivery's states. The road runs down the list; `dismissed` and `opened` are its good ends.
 * The codes are what the store keeps, so they never change.
 */
export const deliveryStates = {
  queued: 0,
  accepted: 1,
  received: 2,
  shown: 3,
  dismissed: 4,
  opened: 5,
  skipped: 10,
  refused: 11,
  expired: 12,
  withdrawn: 13,
} as const
export type DeliveryState = keyof typeof deliveryStates
export const deliveryStateNames = Object.keys(deliveryStates) as DeliveryState[]

const nameByCode = new Map(
  Object.entries(deliveryStates).map(([name, code]) => [code as number, name as DeliveryState]),
)

/** @throws {RangeError} for a code that is no state's */
export function deliveryStateOfCode(code: number): DeliveryState {
  const name = nameByCode.get(code)
  if (!name) throw new RangeError(`no delivery state has the code ${code}`)
  return name
}

/** What a device can report. */
export const receiptStates = ['received', 'shown', 'dismissed', 'opened'] as const
export type ReceiptState = (typeof receiptStates)[number]

export const isReceiptState = (state: DeliveryState): state is ReceiptState =>
  (receiptStates as readonly string[]).includes(state)

/**
 * Where a receipt takes a delivery. States only move forward, so late and repeated receipts change nothing.
 * An `expired` delivery follows its receipts too: the gateway's answer was lost, and the device knows better.
 * A delivery that was skipped, refused or withdrawn stays so, whatever a device claims.
 */
export function afterReceipt(state: DeliveryState, receipt: ReceiptState): DeliveryState {
  switch (state) {
    case 'queued':
    case 'accepted':
    case 'received':
    case 'shown':
    case 'dismissed':
    case 'opened':
      return deliveryStates[receipt] > deliveryStates[state] ? receipt : state
    case 'expired':
      return receipt
    case 'skipped':
    case 'refused':
    case 'withdrawn':
      return state
    default:
      return state satisfies never
  }
}

/** The moments of one delivery, in milliseconds since 1970. */
export type DeliveryMoments = Partial<Record<Exclude<DeliveryState, 'queued'>, number>>

export type DeliveryRecord = { readonly state: DeliveryState; readonly moments: DeliveryMoments }

/**
 * Puts one receipt on a delivery's record. The first report of a state keeps its moment; one that was withdrawn after a gateway
 * had taken it stays withdrawn, and keeps what the device showed.
 * @returns the same object when the receipt changes nothing
 */
export function withReceipt(record: DeliveryRecord, receipt: ReceiptState, atMs: number): DeliveryRecord {
  if (record.state === 'skipped' || record.state === 'refused') return record
  if (record.state === 'withdrawn' && record.moments.accepted === undefined) return record
  const state = afterReceipt(record.state, receipt)
  if (state === record.state && record.moments[receipt] !== undefined) return record
  return { state, moments: { ...record.moments, [receipt]: record.moments[receipt] ?? atMs } }
}
