/** Remembers so many; who was last served before that counts as never served. */
const remembered = 5_000

/** Gives turns round: whoever was served longest ago, or never, is next. */
export class FairQueue {
  readonly #served = new Map<string, number>()
  readonly #last = new Map<string, number>()
  #now = 0

  /** Who was served last of a kind; where only some can be looked at, those behind it are. */
  last(kind: string): number {
    return this.#last.get(kind) ?? 0
  }

  /** @returns one of them, who counts as served from now on; `undefined` when there is nobody */
  next(kind: string, among: readonly number[]): number | undefined {
    let best: number | undefined
    let bestAt = Number.POSITIVE_INFINITY
    for (const one of among) {
      const at = this.#served.get(`${kind} ${one}`) ?? -1
      if (at < bestAt) {
        best = one
        bestAt = at
      }
    }
    if (best === undefined) return undefined
    this.#last.set(kind, best)
    const name = `${kind} ${best}`
    this.#served.delete(name)
    this.#served.set(name, this.#now++)
    if (this.#served.size > remembered) this.#served.delete(this.#served.keys().next().value!)
    return best
  }
}
