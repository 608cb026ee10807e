/**
 * Whether an origin may be asked. After so many requests in a row without an answer it rests, longer each time; then a
 * single one probes whether it is back. Everything that was answered, also with no, closes the circuit.
 */
export type Circuit = {
  /** Requests without an answer, in a row. */
  readonly failures: number
  /** How often it has rested without coming back. */
  readonly rests: number
  /** It rests until then, in ms since 1970; 0 when it does not. */
  readonly untilMs: number
  /** One request is out to see whether it is back. */
  readonly probing: boolean
  /** So many failures in a row are no accident. */
  readonly patience: number
}

export const closedCircuit: Circuit = Object.freeze({ failures: 0, rests: 0, untilMs: 0, probing: false, patience: 10 })
/** Of an origin that nobody has answered from yet, and that anybody may have named. */
export const strangeCircuit: Circuit = Object.freeze({ ...closedCircuit, patience: 2 })

const firstBackoffMs = 1_000
const maxBackoffMs = 30_000
/** Nobody else is let through while a probe is out, for so long at most. */
const probeMs = 5_000

/** @returns how many ms to wait, 0 for whoever may ask now; and the circuit from then on */
export function askCircuit(circuit: Circuit, nowMs: number): { readonly waitMs: number; readonly circuit: Circuit } {
  if (circuit.untilMs === 0) return { waitMs: 0, circuit }
  if (nowMs < circuit.untilMs) return { waitMs: circuit.untilMs - nowMs, circuit }
  return { waitMs: 0, circuit: { ...circuit, probing: true, untilMs: nowMs + probeMs } }
}

/** The circuit after a request came to its end. */
export function afterRequest(circuit: Circuit, answered: boolean, nowMs: number): Circuit {
  if (answered)
    return circuit.failures === 0 && circuit.untilMs === 0 && circuit.patience === closedCircuit.patience
      ? circuit
      : closedCircuit
  const failures = circuit.failures + 1
  // What was on its way when the rest began fails as well; that says nothing new.
  const isNews = circuit.untilMs === 0 ? failures >= circuit.patience : circuit.probing
  if (!isNews) return { ...circuit, failures }
  const backoffMs = Math.min(firstBackoffMs * 2 ** circuit.rests, maxBackoffMs)
  return { ...circuit, failures, rests: circuit.rests + 1, untilMs: nowMs + backoffMs, probing: false }
}
