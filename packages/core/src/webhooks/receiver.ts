/** Whether a receiver may be asked, as all processes know it. */
type ReceiverState = {
  /** Requests in a row that were not heard. */
  readonly failures: number
  /** For how long it is left alone from now on; 0 when it is not. */
  readonly restMs: number
}

/** So many failures in a row are no accident; silence costs a connection and its patience, and counts at once. */
const failuresToRest = 3
/** The first rest, and the longest: by then a single request looks whether it is back. */
const rests = Object.freeze({ firstMs: 5_000, maxMs: 60_000 })

/** How a request ended, as far as the receiver as a whole is concerned. */
export type ReceiverVerdict = 'heard' | 'refused' | 'silent'

/** @param askedMs for how long the receiver itself asked to be left alone */
export function afterDispatch(failures: number, heard: ReceiverVerdict, askedMs = 0): ReceiverState {
  if (heard === 'heard') return { failures: 0, restMs: 0 }
  const now = failures + 1
  const isResting = heard === 'silent' || now >= failuresToRest
  const step = Math.max(0, now - (heard === 'silent' ? 1 : failuresToRest))
  const restMs = isResting ? Math.min(rests.firstMs * 2 ** Math.min(step, 16), rests.maxMs) : 0
  return { failures: now, restMs: Math.max(restMs, askedMs) }
}
