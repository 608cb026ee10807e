/**
 * How many requests may be on their way to a gateway at a time, as learned from how it answers.
 *
 * While answers come within half a second, more are let go until it says "busy". Beyond that, more or fewer at a time are
 * only worth anything where they help, and whether they do is tried. By Little's law a gateway that takes `meanMs` for each
 * of `limit` requests in flight answers `limit / meanMs` of them per ms. When fewer are in flight and as many are answered,
 * the others only stood in line; when fewer are answered, it takes its time for reasons of its own, and starving it makes
 * nothing faster. A trial that did not help is taken back.
 *
 * Of many processes at one gateway a single one that holds back gains nothing by it, since the others take what it leaves.
 * So trials begin at the same moments of the clock, in the same direction: what there is to find out, they find out together.
 */
export type InFlight = {
  readonly limit: number
  /** Trials that did not help: what would come of them again is known for a while. */
  readonly fewerFailed: Failed | undefined
  readonly moreFailed: Failed | undefined
  /** With so many in flight it said "busy" last, and when; near it, it grows slowly. */
  readonly busyAt: number
  readonly busyAtMs: number
  /** The mean time of an answer, while answers are slow: what would help is tried at the next moment for trials. */
  readonly slowMs: number | undefined
  /** The last such moment that was used, or let pass. */
  readonly lastSlot: number
  /** What there was before the trial that is under way. */
  readonly trial: { readonly limit: number; readonly meanMs: number } | undefined
}

/** How long an answer took when it was tried, and when that was, in ms since 1970. */
type Failed = { readonly meanMs: number; readonly atMs: number }

/** What was seen of as many answers as may be in flight, all of them asked for since the limit is what it is. */
export type InFlightWindow = {
  /** Mean time of an answer, in ms, above 0. */
  readonly meanMs: number
  /** The share of them that said "busy", or never came; 0 to 1. */
  readonly busyShare: number
  /** Whether all places were taken at some time: if not, the limit had no part in what was seen. */
  readonly full: boolean
  /** How long the limit has been what it is, in ms. */
  readonly heldMs: number
  /** The end of the window, in ms since 1970. */
  readonly nowMs: number
}

const first = 64
const fewest = 16
const busyCut = 0.7
/** Some gateways say "busy" to a few now and then, however many they are asked for; those few can come again. */
const maxBusy = 0.1
const fewBusy = 3.5
/** Steps of a trial are large enough to stand out from the noise. */
const fewer = 0.7
const more = 1.25
/** Fewer have helped when so much of the pace is still there; more have when the pace has become so much of what it was. */
const heldShare = 0.85
const gainedShare = 1.12
/** Below this nobody minds. */
const mindedMs = 500
/** So long a trial need not be made again, while answers take about as long: between so much of it and one over that. */
const failureKeptMs = 60_000
const alike = 1.5
/** So long a limit at which it said "busy" is remembered. */
const busyKeptMs = 30_000
/** So seldom it is tried near there whether a few more would be taken by now. */
const carefulEveryMs = 500
/** Trials of all processes begin when the clock passes a multiple of this; they try fewer and more by turns. */
const trialEveryMs = 10_000

export const startInFlight = (ceiling: number): InFlight => ({
  limit: Math.min(first, ceiling),
  fewerFailed: undefined,
  moreFailed: undefined,
  busyAt: Number.POSITIVE_INFINITY,
  busyAtMs: Number.NEGATIVE_INFINITY,
  slowMs: undefined,
  lastSlot: Number.NEGATIVE_INFINITY,
  trial: undefined,
})

/**
 * Looks back on a window of answers.
 * @param ceiling never more than this; at least 1
 */
export function learnInFlight(known: InFlight, seen: InFlightWindow, ceiling: number): InFlight {
  const { limit, trial } = known
  const { meanMs, nowMs } = seen
  const calm: InFlight = { ...known, slowMs: undefined, trial: undefined }
  if (seen.busyShare > Math.max(maxBusy, fewBusy / limit))
    return { ...calm, limit: bounded(limit * busyCut, ceiling), busyAt: limit, busyAtMs: nowMs }
  if (trial) return judged(calm, trial, seen, ceiling)
  if (!seen.full) return calm
  if (meanMs <= mindedMs) return { ...calm, limit: bounded(grown(known, seen), ceiling) }
  // Whoever has just begun to be slow waits for the next moment, at which all begin.
  const slot = slotOf(nowMs)
  const isNews = known.slowMs === undefined && slot - known.lastSlot > 2
  return { ...calm, slowMs: meanMs, lastSlot: isNews ? slot : known.lastSlot }
}

/** Begins the trial whose moment has come. @returns the same when there is none */
export function tryInFlight(known: InFlight, nowMs: number, ceiling: number): InFlight {
  const { slowMs, fewerFailed, moreFailed } = known
  const slot = slotOf(nowMs)
  if (slowMs === undefined || slot <= known.lastSlot) return known
  const used: InFlight = { ...known, lastSlot: slot }
  const steps = [
    { by: fewer, failed: fewerFailed },
    { by: more, failed: moreFailed },
  ]
  if (slot % 2 === 1) steps.reverse()
  const next = steps.find(({ failed }) => !isKnown(failed, slowMs, nowMs))
  return next ? stepped(used, next.by, slowMs, ceiling) : used
}

const isKnown = (failed: Failed | undefined, meanMs: number, nowMs: number): boolean =>
  failed !== undefined &&
  nowMs - failed.atMs < failureKeptMs &&
  meanMs < failed.meanMs * alike &&
  meanMs > failed.meanMs / alike

const slotOf = (nowMs: number): number => Math.floor(nowMs / trialEveryMs)

/** A trial that helps goes on for as long as there is something to gain. */
function judged(
  calm: InFlight,
  trial: NonNullable<InFlight['trial']>,
  { meanMs, nowMs }: InFlightWindow,
  ceiling: number,
): InFlight {
  const pace = calm.limit / meanMs / (trial.limit / trial.meanMs)
  const back: InFlight = { ...calm, limit: bounded(trial.limit, ceiling) }
  const failed = { meanMs: trial.meanMs, atMs: nowMs }
  if (calm.limit > trial.limit)
    return pace < gainedShare ? { ...back, moreFailed: failed } : stepped(calm, more, meanMs, ceiling)
  if (pace < heldShare) return { ...back, fewerFailed: failed }
  return meanMs > mindedMs ? stepped(calm, fewer, meanMs, ceiling) : calm
}

function stepped(known: InFlight, by: number, meanMs: number, ceiling: number): InFlight {
  const limit = bounded(known.limit * by, ceiling)
  return limit === known.limit ? known : { ...known, limit, slowMs: undefined, trial: { limit: known.limit, meanMs } }
}

const bounded = (limit: number, ceiling: number): number =>
  Math.min(ceiling, Math.max(Math.min(fewest, ceiling), Math.floor(limit)))

/** Fast as far as is known to be good; near where it said "busy" a little, and not often. */
function grown({ limit, busyAt, busyAtMs }: InFlight, { nowMs, busyShare, heldMs }: InFlightWindow): number {
  const fast = limit * more + 1
  const remembers = nowMs - busyAtMs < busyKeptMs && limit <= busyAt * more
  const good = remembers ? Math.floor(busyAt * 0.9) : Number.POSITIVE_INFINITY
  if (busyShare === 0 && limit < good) return Math.min(fast, Math.max(good, limit + 1))
  return heldMs < carefulEveryMs ? limit : Math.max(limit + 1, limit * 1.05)
}
