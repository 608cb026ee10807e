import type { KitStorage } from './storage.ts'

/** One thing in storage that is changed by one after the other: two changes in the same moment both count. */
export class Kept<T> {
  readonly #storage: KitStorage
  readonly #name: string
  readonly #empty: T
  #turn: Promise<unknown> = Promise.resolve()

  constructor(storage: KitStorage, name: string, empty: T) {
    this.#storage = storage
    this.#name = name
    this.#empty = empty
  }

  /** As it is when all changes that were begun are done. */
  async read(): Promise<T> {
    await this.#turn
    return this.#stored()
  }

  /** @param how answers the same thing when there is nothing to change */
  change(how: (before: T) => T): Promise<T> {
    const act = async () => {
      const before = await this.#stored()
      const after = how(before)
      if (after !== before) await this.#storage.set(this.#name, after)
      return after
    }
    const done = this.#turn.then(() => this.#storage.exclusively?.(this.#name, act) ?? act())
    this.#turn = done.catch(() => undefined) // The caller hears of it; the next change starts from what is stored.
    return done
  }

  async #stored(): Promise<T> {
    return (await this.#storage.get<T>(this.#name)) ?? this.#empty
  }
}
