import { type InFlight, learnInFlight, startInFlight, tryInFlight } from './in-flight.ts'

/**
 * Gathers answers into windows and learns from each how many requests may be in flight. What was asked for before the
 * limit changed says nothing of the limit that is, and counts in no window.
 */
export class LearnedLimit {
  readonly #ceiling: number
  #known: InFlight
  #changedAtMs = Number.NEGATIVE_INFINITY
  #answers = 0
  #durationMs = 0
  #busy = 0
  #full = false

  /** @param ceiling never more than this; at least 1 */
  constructor(ceiling: number) {
    this.#ceiling = ceiling
    this.#known = startInFlight(ceiling)
  }

  get limit(): number {
    return this.#known.limit
  }

  /** All places are taken. */
  noteFull(): void {
    this.#full = true
  }

  /**
   * An answer came, or one that never will was given up.
   * @param durationMs since it was asked for @param busy it said so, or it did not come in time @param nowMs in ms since 1970
   */
  note(durationMs: number, busy: boolean, nowMs: number): void {
    this.#become(tryInFlight(this.#known, nowMs, this.#ceiling), nowMs)
    if (nowMs - durationMs < this.#changedAtMs) return
    this.#answers++
    this.#durationMs += durationMs
    if (busy) this.#busy++
    if (this.#answers < this.#known.limit) return
    const meanMs = Math.max(this.#durationMs / this.#answers, 0.001)
    const seen = {
      meanMs,
      busyShare: this.#busy / this.#answers,
      full: this.#full,
      heldMs: nowMs - this.#changedAtMs,
      nowMs,
    }
    const next = learnInFlight(this.#known, seen, this.#ceiling)
    this.#pruneWindow()
    this.#become(next, nowMs)
  }

  #become(next: InFlight, nowMs: number): void {
    const changes = next.limit !== this.#known.limit
    this.#known = next
    if (!changes) return
    this.#changedAtMs = nowMs
    this.#pruneWindow()
  }

  #pruneWindow(): void {
    this.#answers = 0
    this.#durationMs = 0
    this.#busy = 0
    this.#full = false
  }
}
