import { LearnedLimit } from '@zbell/core'
import type { Slots } from '../engine/index.ts'

/** How many places there are: a number that stays, or one that is learned. */
type Limit = Pick<LearnedLimit, 'limit' | 'note' | 'noteFull'>

/** A counter of free places; those who find none wait in line. */
export class Places implements Slots {
  readonly #line: (() => void)[] = []
  readonly #places: Limit
  readonly #fewAtFirst: number
  #hasAnswered = false
  #taken = 0

  /** @param fewAtFirst never more than this before the first answer */
  constructor(places: number | Limit, fewAtFirst = Number.POSITIVE_INFINITY) {
    this.#fewAtFirst = fewAtFirst
    this.#places = typeof places === 'number' ? { limit: places, note: () => {}, noteFull: () => {} } : places
  }

  /** Places that begin few and become as many as the gateway takes well. @param ceiling never more than this */
  static learning(ceiling: number, fewAtFirst?: number): Places {
    return new Places(new LearnedLimit(ceiling), fewAtFirst)
  }

  get hasAnswered(): boolean {
    return this.#hasAnswered
  }

  get taken(): number {
    return this.#taken
  }

  get limit(): number {
    return this.#hasAnswered ? this.#places.limit : Math.min(this.#places.limit, this.#fewAtFirst)
  }

  /** Takes a place; `undefined` when one was free, so that the fast way costs no promise. */
  take(ahead = false): Promise<void> | undefined {
    if (this.#taken < this.limit) {
      this.#taken++
      return undefined
    }
    this.#places.noteFull()
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
    if (this.#line.length > 0) this.#places.noteFull()
  }

  note(durationMs: number, busy: boolean, answered = true): void {
    if (answered) this.#hasAnswered = true
    // The time of day as it was when the process began, and never set back since.
    this.#places.note(durationMs, busy, performance.timeOrigin + performance.now())
  }
}
