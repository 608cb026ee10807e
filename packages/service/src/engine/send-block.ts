import {
  type Outcome,
  type Platform,
  type Reason,
  type RetryOptions,
  reasonToSkip,
  resolveRetry,
  retryDelayMs,
} from '@zbell/core'
import type { BlockDevice } from '../store/devices/load-block-devices.ts'
import type { NotificationRow } from '../store/notifications/read-notifications.ts'
import type { Claim } from '../store/work/claim-work.ts'
import type { Ended, Retry } from '../store/work/store-outcomes.ts'
import type { Gateways, Lane, Sendable, Shipment, WorkStore } from './ports.ts'

export type SendBlockOptions = {
  readonly retry: RetryOptions
  /** Outcomes are stored at the latest after so long, so that the running notification can be watched. */
  readonly storeEveryMs: number
  readonly now: () => number
  readonly chance: () => number
}

export const sendBlockDefaults: SendBlockOptions = Object.freeze({
  retry: resolveRetry(),
  storeEveryMs: 500,
  now: Date.now,
  chance: Math.random,
})

type Waiting = {
  readonly device: BlockDevice
  readonly cause: 'gateway-busy' | 'gateway-unreachable'
  readonly retryAfterMs: number
}

/**
 * Sends one block: decides for each device, hands requests to the gateways, and stores what became of them.
 * @returns false when the lease was lost on the way; whatever was not stored is the next worker's
 */
export async function sendBlock(
  claim: Claim & { kind: 'send' },
  notification: NotificationRow,
  store: WorkStore,
  gateways: Gateways,
  options: SendBlockOptions = sendBlockDefaults,
): Promise<boolean> {
  const devices = await store.devices(claim.devices)
  const open = new Set(claim.devices)
  const ended: Ended[] = []
  const waiting: Waiting[] = []
  const attempts = claim.failures + 1
  const end = (
    device: Pick<BlockDevice, 'no' | 'platform'>,
    how: Pick<Ended, 'state' | 'reason' | 'gatewayReference'>,
    tries: number,
  ) => {
    ended.push({ deviceNo: device.no, platform: device.platform, ...how, attempts: tries, atMs: options.now() })
  }
  const take = (device: BlockDevice, outcome: Outcome) => {
    const now = fate(device, outcome)
    if ('cause' in now) waiting.push(now)
    else end(device, now, attempts)
  }

  // A device that was deleted since the expansion has no row to send from.
  const found = new Set(devices.map((device) => device.no))
  for (const no of claim.devices)
    if (!found.has(no)) end({ no, platform: 'web' }, { state: 'skipped', reason: 'unregistered' }, claim.failures)

  let holding = true
  let storing: Promise<void> | undefined
  let storedAtMs = options.now()
  const storeSome = async () => {
    const batch = ended.splice(0)
    for (const one of batch) open.delete(one.deviceNo)
    holding = (await store.storeOutcomes(claim, { ended: batch, remaining: [...open], retries: [] })) && holding
  }
  const shipments = new Map<Platform, Promise<Shipment | Reason>>()
  const lanes = new Map<Platform, Lane | Reason>()
  const flights = new Set<Promise<void>>()

  for (const device of devices) {
    if (!holding) break
    if (options.now() >= notification.expiresAt.getTime()) {
      // A delivery that waited for a gateway ends by that gateway's fault, not by the queue's.
      end(device, { state: 'expired', reason: claim.cause ?? 'expired-in-queue' }, claim.failures)
      continue
    }
    const skip = reasonToSkip(device, notification.mode)
    if (skip) {
      end(device, { state: 'skipped', reason: skip }, claim.failures)
      continue
    }
    let lane = lanes.get(device.platform)
    if (lane === undefined) {
      lane = await gateways.lane(notification.appNo, notification.environment, device.platform)
      lanes.set(device.platform, lane)
      shipments.set(
        device.platform,
        typeof lane === 'string' ? Promise.resolve(lane) : lane.prepare(sendable(notification)),
      )
    }
    const shipment = await shipments.get(device.platform)!
    if (typeof lane === 'string' || typeof shipment === 'string') {
      end(device, { state: 'refused', reason: lane as Reason }, claim.failures)
      continue
    }
    const { slots } = lane
    await slots.take()
    const flight = shipment
      .send(device)
      .then((outcome) => take(device, outcome))
      .finally(() => {
        slots.release()
        flights.delete(flight)
      })
    flights.add(flight)
    if (!storing && ended.length > 0 && options.now() - storedAtMs > options.storeEveryMs) {
      storing = storeSome().finally(() => {
        storing = undefined
        storedAtMs = options.now()
      })
      storing.catch(() => undefined) // It is awaited below, where its failure counts; here it must only not go unheard.
    }
  }
  await Promise.all(flights)
  await storing
  if (!holding) return false
  const retries = planRetries(waiting, notification, attempts, options, end)
  return store.storeOutcomes(claim, { ended, remaining: [], retries })
}

const sendable = (notification: NotificationRow): Sendable => ({
  id: notification.id,
  content: notification.content,
  mode: notification.mode,
  urgency: notification.urgency,
  ttlSeconds: notification.ttlSeconds,
  expiresAtMs: notification.expiresAt.getTime(),
})

function fate(device: BlockDevice, outcome: Outcome): Pick<Ended, 'state' | 'reason' | 'gatewayReference'> | Waiting {
  switch (outcome.is) {
    case 'accepted':
      return { state: 'accepted', ...(outcome.ref === undefined ? {} : { gatewayReference: outcome.ref }) }
    case 'token-gone':
      return { state: 'refused', reason: 'token-gone' }
    case 'refused':
      return { state: 'refused', reason: outcome.reason }
    case 'busy':
      return { device, cause: 'gateway-busy', retryAfterMs: outcome.retryAfterMs ?? 0 }
    case 'unavailable':
      return { device, cause: 'gateway-unreachable', retryAfterMs: outcome.retryAfterMs ?? 0 }
    default:
      return outcome satisfies never
  }
}

/** Devices of one platform wait together, as long as the most patient answer asked; those that would wait too long end. */
function planRetries(
  waiting: readonly Waiting[],
  notification: NotificationRow,
  failures: number,
  options: SendBlockOptions,
  end: (device: BlockDevice, how: Pick<Ended, 'state' | 'reason'>, tries: number) => void,
): Retry[] {
  const retries: Retry[] = []
  for (const platform of ['ios', 'android', 'web'] as const) {
    const group = waiting.filter((one) => one.device.platform === platform)
    if (group.length === 0) continue
    const askedMs = Math.max(...group.map((one) => one.retryAfterMs))
    const afterMs = retryDelayMs(failures, options.retry, options.chance(), askedMs)
    if (options.now() + afterMs < notification.expiresAt.getTime()) {
      retries.push({
        devices: group.map((one) => one.device.no).sort((a, b) => a - b),
        failures,
        cause: group[0]!.cause,
        afterMs,
      })
    } else {
      for (const one of group) end(one.device, { state: 'expired', reason: one.cause }, failures)
    }
  }
  return retries
}
