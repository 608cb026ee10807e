/** Something that is got at a cost and good for a while: one fetch at a time, renewed ahead of its end. */
export class Renewed<T> {
  readonly #fetch: () => Promise<{ value: T; renewAtMs: number }>
  readonly #now: () => number
  #held: { value: T; renewAtMs: number } | undefined
  #fetching: Promise<T> | undefined

  constructor(fetch: () => Promise<{ value: T; renewAtMs: number }>, now: () => number = Date.now) {
    this.#fetch = fetch
    this.#now = now
  }

  /** The value when it is at hand and still good; the fast way, without a promise. */
  get atHand(): T | undefined {
    return this.#held && this.#held.renewAtMs > this.#now() ? this.#held.value : undefined
  }

  /** However many wait, it is fetched once. */
  get(): Promise<T> {
    const held = this.atHand
    if (held !== undefined) return Promise.resolve(held)
    this.#fetching ??= this.#fetch()
      .then((fresh) => {
        this.#held = fresh
        return fresh.value
      })
      .finally(() => {
        this.#fetching = undefined
      })
    return this.#fetching
  }

  /** Forgets a value that turned out to be no good; a newer one stays. */
  drop(value: T): void {
    if (this.#held?.value === value) this.#held = undefined
  }
}
