import type { DeliveryMoments } from './states.ts'

/**
 * How long something took, as one of 64 classes whose upper edges grow by the square root of two: 1 ms, 1.4 ms, 2 ms … 35
 * days. Classes can be counted, added up and asked for a quantile, which single times cannot.
 */
export const durationClasses = 64

/** @param ms below 0, as clocks can make it, counts as nothing */
export function durationClass(ms: number): number {
  if (!(ms > 1)) return 0
  return Math.min(durationClasses - 1, Math.ceil(2 * Math.log2(ms) - 1e-9))
}

/** The most that a time of this class can be, in ms; the last class has no upper edge. */
export const maxOfClassMs = (durationClass: number): number => 2 ** (durationClass / 2)

/**
 * @param counts how many there are of each class
 * @param share between 0 and 1: 0.5 is the median
 * @returns the time in ms that so many did not exceed, by the geometric middle of its class; `undefined` without any
 */
export function quantileMs(counts: ReadonlyMap<number, number>, share: number): number | undefined {
  const total = [...counts.values()].reduce((sum, count) => sum + count, 0)
  if (total === 0) return undefined
  let left = Math.max(1, Math.ceil(total * share))
  for (const [one, count] of [...counts].sort((a, b) => a[0] - b[0])) {
    left -= count
    if (left <= 0) return maxOfClassMs(one) / (one === 0 ? 1 : 2 ** 0.25)
  }
  return undefined
}

/** A time as it is told: tenths of a ms below 100 ms, where a class is that narrow, and whole ones above. */
export const toldMs = (ms: number): number => (ms < 100 ? Math.round(ms * 10) / 10 : Math.round(ms))

/** The steps whose time is worth knowing, in their order. */
export const timedSteps = ['accepted', 'received', 'shown', 'opened'] as const
export type TimedStep = (typeof timedSteps)[number]

/** What a device can report, each with the steps that it may follow, the nearest first. */
const follows = {
  received: ['accepted'],
  shown: ['received', 'accepted'],
  dismissed: ['shown', 'received', 'accepted'],
  opened: ['shown', 'received', 'accepted'],
} as const
const reported = Object.keys(follows) as (keyof typeof follows)[]

/**
 * What a device has reported anew, each with the time since the step before it.
 * @param createdMs what the first step is counted from when a receipt came before the gateway's answer
 */
export function stepsTaken(
  earlier: DeliveryMoments,
  now: DeliveryMoments,
  createdMs: number,
): { readonly state: keyof typeof follows; readonly durationMs: number }[] {
  return reported.flatMap((state) => {
    const at = now[state]
    if (at === undefined || earlier[state] !== undefined) return []
    const from = follows[state].map((one) => now[one]).find((moment) => moment !== undefined) ?? createdMs
    return [{ state, durationMs: Math.max(0, at - from) }]
  })
}
