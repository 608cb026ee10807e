import { type RetryOptions, retryDelayMs } from '@zbell/core'
import type { BlockDevice, Retry } from './work.ts'

export type Cause =
  | 'gateway-busy'
  | 'gateway-unreachable'
  | 'credential-rejected'
  | 'profile-at-fault'
  | 'internal-fault'
  | 'quiet-hours'

/** What waits for somebody to mend how the app speaks to its gateway: it is woken then, and does not end before its time. */
const waitsForMending = (cause: Cause): boolean => cause === 'credential-rejected' || cause === 'profile-at-fault'

/** A device that was not done with. */
export type Waiting = {
  readonly device: BlockDevice
  readonly cause: Cause
  readonly retryAfterMs: number
  /** The gateway rests, and this device was not tried: that is no failure of its own. */
  readonly untried?: true
  /** Those who waited for the same come over so long. */
  readonly spreadMs?: number
}

export type RetryPlan = {
  readonly retries: Retry[]
  /** Those who would wait for longer than the notification lives. */
  readonly expired: { readonly device: BlockDevice; readonly cause: Cause; readonly failures: number }[]
}

/** Blocks that waited for the same gateway come back over so long. */
const restSpreadMs = 1_000

/** How often what waits for a credential or a profile looks again at the gateway, when nobody replaces it. */
const rejectedLookMs = 30_000

/** Devices of one platform and cause wait together, as long as the most patient answer asked. */
export function planRetries(
  waiting: readonly Waiting[],
  given: {
    readonly failuresBefore: number
    readonly leftMs: number
    readonly retry: RetryOptions
    readonly chance: () => number
  },
): RetryPlan {
  const plan: RetryPlan = { retries: [], expired: [] }
  for (const group of grouped(waiting)) {
    const { cause } = group[0]!
    const { afterMs, failures } = whenAgain(group, given)
    const devices = group.map((one) => one.device.no).sort((a, b) => a - b)
    if (afterMs < given.leftMs || waitsForMending(cause)) plan.retries.push({ devices, failures, cause, afterMs })
    else for (const { device } of group) plan.expired.push({ device, cause, failures })
  }
  return plan
}

function whenAgain(
  group: readonly Waiting[],
  { failuresBefore, leftMs, retry, chance }: Parameters<typeof planRetries>[1],
): { readonly afterMs: number; readonly failures: number } {
  const { cause, untried, spreadMs = restSpreadMs } = group[0]!
  // These were not tried for their own sake, so it counts as no failure; what is mended wakes them at once.
  if (waitsForMending(cause))
    return { afterMs: Math.min(rejectedLookMs, Math.max(leftMs, 0)), failures: failuresBefore }
  const askedMs = group.reduce((most, one) => Math.max(most, one.retryAfterMs), 0)
  // A little later than asked, and not all at once.
  if (untried) return { afterMs: askedMs + chance() * spreadMs, failures: failuresBefore }
  const failures = failuresBefore + 1
  return { afterMs: retryDelayMs(failures, retry, chance(), askedMs), failures }
}

function grouped(waiting: readonly Waiting[]): Waiting[][] {
  const groups = new Map<string, Waiting[]>()
  for (const one of waiting) {
    // Quiet hours end at another moment for each zone.
    const untilMs = one.cause === 'quiet-hours' ? one.retryAfterMs : 0
    const name = `${one.device.platform} ${one.cause} ${one.untried ?? false} ${untilMs}`
    const group = groups.get(name)
    if (group) group.push(one)
    else groups.set(name, [one])
  }
  return [...groups.values()]
}
