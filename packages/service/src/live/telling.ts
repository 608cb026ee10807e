import { setTimeout } from 'node:timers/promises'

const againAfterMs = 1_000

/**
 * Tells a listener of what changed, by number: one at a time, and once for however many changes there were meanwhile. What could
 * not be read is read again a little later, since nobody would speak of it any more.
 */
export class Telling {
  readonly #waiting = new Set<number>()
  readonly #tell: (no: number) => Promise<void>
  readonly #onFault: (error: unknown) => void
  #telling = false
  #ended = false

  constructor(tell: (no: number) => Promise<void>, onFault: (error: unknown) => void) {
    this.#tell = tell
    this.#onFault = onFault
  }

  of(no: number): void {
    this.#waiting.add(no)
    if (!this.#telling) void this.#goOn()
  }

  end(): void {
    this.#ended = true
  }

  async #goOn(): Promise<void> {
    this.#telling = true
    for (const no of this.#waiting) {
      if (this.#ended) return
      this.#waiting.delete(no)
      try {
        await this.#tell(no)
      } catch (error) {
        this.#onFault(error)
        this.#waiting.add(no)
        await setTimeout(againAfterMs)
      }
    }
    this.#telling = false
  }
}
