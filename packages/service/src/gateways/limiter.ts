import { LearnedLimit } from '@zbell/core'
import type { Limiter } from '../engine/index.ts'

/** How many may be in flight: a number that stays, or one that is learned. */
type Limit = Pick<LearnedLimit, 'limit' | 'note' | 'noteFull'>

/** Lets so many requests be in flight; those beyond wait in line. */
export class ConcurrencyLimiter implements Limiter {
  readonly #waiting: (() => void)[] = []
  readonly #limit: Limit
  readonly #fewAtFirst: number
  #hasAnswered = false
  #inFlight = 0

  /** @param fewAtFirst never more than this before the first answer */
  constructor(limit: number | Limit, fewAtFirst = Number.POSITIVE_INFINITY) {
    this.#fewAtFirst = fewAtFirst
    this.#limit = typeof limit === 'number' ? { limit, note: () => {}, noteFull: () => {} } : limit
  }

  /** Begins with few and lets in as many as the gateway takes well. @param ceiling never more than this */
  static learning(ceiling: number, fewAtFirst?: number): ConcurrencyLimiter {
    return new ConcurrencyLimiter(new LearnedLimit(ceiling), fewAtFirst)
  }

  get hasAnswered(): boolean {
    return this.#hasAnswered
  }

  get inFlight(): number {
    return this.#inFlight
  }

  get limit(): number {
    return this.#hasAnswered ? this.#limit.limit : Math.min(this.#limit.limit, this.#fewAtFirst)
  }

  /** Takes a permit; `undefined` when one was free, so that the fast way costs no promise. */
  take(ahead = false): Promise<void> | undefined {
    if (this.#inFlight < this.limit) {
      this.#inFlight++
      return undefined
    }
    this.#limit.noteFull()
    return new Promise((go) => {
      if (ahead) this.#waiting.unshift(go)
      else this.#waiting.push(go)
    })
  }

  release(): void {
    this.#inFlight--
    while (this.#inFlight < this.limit) {
      const next = this.#waiting.shift()
      if (!next) return
      this.#inFlight++
      next()
    }
    if (this.#waiting.length > 0) this.#limit.noteFull()
  }

  note(durationMs: number, busy: boolean, answered = true): void {
    if (answered) this.#hasAnswered = true
    // The time of day as it was when the process began, and never set back since.
    this.#limit.note(durationMs, busy, performance.timeOrigin + performance.now())
  }
}
