import { type DeliveryMoments, type DeliveryState, deliveryStates } from './states.ts'

export type TimelineStep = {
  readonly state: DeliveryState
  readonly atMs: number
  /** What the clock said that noted it, where that is later than a step which must have followed. */
  readonly notedMs?: number
}

/**
 * What happened to a delivery, in the order of its road. Times come from several clocks, and the gateway's answer can be
 * noted after the device has reported: whatever must have happened before a later step is no later than it, and what its own
 * clock said stands beside it.
 */
export function timelineOf(queuedMs: number, moments: DeliveryMoments): TimelineStep[] {
  const steps = Object.entries({ ...moments, queued: queuedMs })
    .map(([state, atMs]) => ({ state: state as DeliveryState, atMs }))
    .sort((a, b) => deliveryStates[a.state] - deliveryStates[b.state])
  let latestMs = Number.POSITIVE_INFINITY
  return steps
    .reverse()
    .map(({ state, atMs }) => {
      latestMs = Math.min(latestMs, atMs)
      return atMs > latestMs ? { state, atMs: latestMs, notedMs: atMs } : { state, atMs }
    })
    .reverse()
}
