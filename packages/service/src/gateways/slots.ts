import { type InFlight, learnInFlight, startInFlight } from '@zbell/core'
import type { Slots } from '../engine/ports.ts'

/** A counter of free places; those who find none wait in line. How many there are is learned from how they are used. */
export class Places implements Slots {
  readonly #ceiling: number
  readonly #line: (() => void)[] = []
  #learned: InFlight
  #taken = 0
  #answers = 0
  #tookMs = 0
  #wasBusy = false

  /** @param ceiling never more than this @param learned what is known already; a fixed number of places by default */
  constructor(ceiling: number, learned: InFlight = { limit: ceiling, bestMs: 0 }) {
    this.#ceiling = ceiling
    this.#learned = learned
  }

  /** Places that begin few and become as many as the gateway takes well. */
  static learning(ceiling: number): Places {
    return new Places(ceiling, startInFlight(ceiling))
  }

  get taken(): number {
    return this.#taken
  }

  get limit(): number {
    return this.#learned.limit
  }

  /** Takes a place; `undefined` when one was free, so that the fast way costs no promise. */
  take(ahead = false): Promise<void> | undefined {
    if (this.#taken < this.#learned.limit) {
      this.#taken++
      return undefined
    }
    return new Promise((go) => {
      if (ahead) this.#line.unshift(go)
      else this.#line.push(go)
    })
  }

  release(): void {
    this.#taken--
    while (this.#taken < this.#learned.limit) {
      const next = this.#line.shift()
      if (!next) return
      this.#taken++
      next()
    }
  }

  /** Takes note of how long an answer took. */
  note(tookMs: number, busy: boolean): void {
    this.#answers++
    this.#tookMs += tookMs
    this.#wasBusy ||= busy
    if (this.#answers < this.#learned.limit) return
    this.#learned = learnInFlight(this.#learned, this.#tookMs / this.#answers, this.#wasBusy, this.#ceiling)
    this.#answers = 0
    this.#tookMs = 0
    this.#wasBusy = false
  }
}
