import type { KitStorage } from './storage.ts'

/** A device remembers so many notifications to know a second copy; older ones have long expired. */
const remembered = 500
const name = 'arrived'

/** Knows what has arrived, so that a notification that is handed over twice is shown once. */
export class Arrivals {
  readonly #storage: KitStorage
  #turn: Promise<unknown> = Promise.resolve()

  constructor(storage: KitStorage) {
    this.#storage = storage
  }

  /** Takes note of a notification. @returns false when it was there before */
  firstTime(notification: string): Promise<boolean> {
    // One after the other: two copies can arrive in the same moment.
    const answer = this.#turn.then(async () => {
      const seen = (await this.#storage.get<string[]>(name)) ?? []
      if (seen.includes(notification)) return false
      await this.#storage.set(name, [...seen, notification].slice(-remembered))
      return true
    })
    this.#turn = answer.catch(() => undefined) // The next one must not fail for this one's storage; the caller hears of it.
    return answer
  }
}
