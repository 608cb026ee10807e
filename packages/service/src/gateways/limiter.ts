import { LearnedLimit } from '@zbell/core'
import type { Limiter } from '../engine/index.ts'

/** How many places there are: a number that stays, or one that is learned. */
type Limit = Pick<LearnedLimit, 'limit' | 'note' | 'noteFull'>

/** A counter of free places; those who find none wait in line. */
export class ConcurrencyLimiter implements Limiter {
  readonly #line: (() => void)[] = []
  readonly #limiter: Limit
  readonly #fewAtFirst: number
  #hasAnswered = false
  #taken = 0

  /** @param fewAtFirst never more than this before the first answer */
  constructor(limiter: number | Limit, fewAtFirst = Number.POSITIVE_INFINITY) {
    this.#fewAtFirst = fewAtFirst
    this.#limiter = typeof limiter === 'number' ? { limit: limiter, note: () => {}, noteFull: () => {} } : limiter
  }

  /** ConcurrencyLimiter that begin few and become as many as the gateway takes well. @param ceiling never more than this */
  static learning(ceiling: number, fewAtFirst?: number): ConcurrencyLimiter {
    return new ConcurrencyLimiter(new LearnedLimit(ceiling), fewAtFirst)
  }

  get hasAnswered(): boolean {
    return this.#hasAnswered
  }

  get taken(): number {
    return this.#taken
  }

  get limit(): number {
    return this.#hasAnswered ? this.#limiter.limit : Math.min(this.#limiter.limit, this.#fewAtFirst)
  }

  /** Takes a place; `undefined` when one was free, so that the fast way costs no promise. */
  take(ahead = false): Promise<void> | undefined {
    if (this.#taken < this.limit) {
      this.#taken++
      return undefined
    }
    this.#limiter.noteFull()
    return new Promise((go) => {
      if (ahead) this.#line.unshift(go)
      else this.#line.push(go)
    })
  }

  release(): void {
    this.#taken--
    while (this.#taken < this.limit) {
      const next = this.#line.shift()
      if (!next) return
      this.#taken++
      next()
    }
    if (this.#line.length > 0) this.#limiter.noteFull()
  }

  note(durationMs: number, busy: boolean, answered = true): void {
    if (answered) this.#hasAnswered = true
    // The time of day as it was when the process began, and never set back since.
    this.#limiter.note(durationMs, busy, performance.timeOrigin + performance.now())
  }
}
