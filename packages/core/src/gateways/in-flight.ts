/** How many requests may be on their way to a gateway at a time, as learned from how it answers. */
export type InFlight = {
  readonly limit: number
  /** The shortest mean time of an answer that was seen, in ms: how fast the gateway can be. */
  readonly bestMs: number
}

const first = 64
const fewest = 4
/** An answer that takes so many times as long as the best means a queue at the gateway. */
const slowFactor = 10
/** Below this nobody minds. */
const slowMs = 500

export const startInFlight = (ceiling: number): InFlight => ({
  limit: Math.min(first, ceiling),
  bestMs: Number.POSITIVE_INFINITY,
})

/**
 * Looks back on a window of answers: a gateway that says it is busy gets clearly less, one that slows down a little less,
 * one that keeps up gets more.
 * @param meanMs how long the answers of the window took
 * @param busy whether one of them was "busy"
 * @param ceiling never more than this
 */
export function learnInFlight({ limit, bestMs }: InFlight, meanMs: number, busy: boolean, ceiling: number): InFlight {
  const best = Math.min(bestMs, meanMs)
  const slow = meanMs > Math.max(best * slowFactor, slowMs)
  const next = busy ? limit * 0.7 : slow ? limit * 0.9 : limit * 1.25 + 1
  return { limit: Math.min(ceiling, Math.max(Math.min(fewest, ceiling), Math.floor(next))), bestMs: best }
}
