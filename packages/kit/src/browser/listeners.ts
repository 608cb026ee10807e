/** Ends what it was given for; twice is once. */
export type Stop = () => void

/** Whoever wants to hear of one kind of thing. */
export class Listeners<T = void> {
  readonly #all = new Set<(what: T) => void>()

  add(listener: (what: T) => void): Stop {
    this.#all.add(listener)
    return () => this.#all.delete(listener)
  }

  tell(what: T): void {
    for (const listener of this.#all) listener(what)
  }

  get isEmpty(): boolean {
    return this.#all.size === 0
  }
}

/** Where an error goes that nobody waits for: to the page, as one that nobody caught. */
export const report = (error: unknown): void => globalThis.reportError?.(error)
