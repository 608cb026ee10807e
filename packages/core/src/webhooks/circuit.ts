/** The circuit of a receiver, as all processes know it: open while it is backed off from. */
type ReceiverCircuit = {
  /** Requests in a row that were not acknowledged. */
  readonly failures: number
  /** For how long nothing is sent to it from now on; 0 while the circuit is closed. */
  readonly backoffMs: number
}

/** So many failures in a row are no accident; silence costs a connection and its patience, and counts at once. */
const failuresToOpen = 3
/** The first back-off, and the longest: after each a single request probes whether it is back. */
const backoffs = Object.freeze({ firstMs: 5_000, maxMs: 60_000 })

/** How a request ended, as far as the receiver as a whole is concerned. */
export type ReceiverVerdict = 'acknowledged' | 'refused' | 'silent'

/** @param askedMs for how long the receiver itself asked to be left alone */
export function afterDispatch(failures: number, verdict: ReceiverVerdict, askedMs = 0): ReceiverCircuit {
  if (verdict === 'acknowledged') return { failures: 0, backoffMs: 0 }
  const now = failures + 1
  const isOpen = verdict === 'silent' || now >= failuresToOpen
  const step = Math.max(0, now - (verdict === 'silent' ? 1 : failuresToOpen))
  const backoffMs = isOpen ? Math.min(backoffs.firstMs * 2 ** Math.min(step, 16), backoffs.maxMs) : 0
  return { failures: now, backoffMs: Math.max(backoffMs, askedMs) }
}
