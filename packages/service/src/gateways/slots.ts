import type { Slots } from '../engine/ports.ts'

/** A counter of free places; those who find none wait in line. */
export class Places implements Slots {
  #free: number
  readonly #line: (() => void)[] = []

  constructor(places: number) {
    this.#free = places
  }

  /** Takes a place; `undefined` when one was free, so that the fast way costs no promise. */
  take(ahead = false): Promise<void> | undefined {
    if (this.#free > 0) {
      this.#free--
      return undefined
    }
    return new Promise((go) => {
      if (ahead) this.#line.unshift(go)
      else this.#line.push(go)
    })
  }

  release(): void {
    const next = this.#line.shift()
    if (next) next()
    else this.#free++
  }
}
