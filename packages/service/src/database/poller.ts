import type { Logger } from 'pino'
import { DatabaseUnavailable } from './errors.ts'

/** What could not be done is left alone for so long. */
export const restMs = 5_000

type What = {
  /** What is looked at, for the log. */
  readonly what: string
  readonly everyMs: number
  readonly log: Logger
  look(): Promise<void>
}

/** Looks again and again, one look after the other, until it is closed; what fails is looked at again after a rest. */
export class Looks {
  readonly #what: What
  #timer: NodeJS.Timeout | undefined
  #looking: Promise<void> = Promise.resolve()
  #isClosed = false

  constructor(what: What) {
    this.#what = what
  }

  /** A look that goes on for long asks between its steps. */
  get isClosed(): boolean {
    return this.#isClosed
  }

  start(afterMs = this.#what.everyMs): void {
    this.#timer = setTimeout(() => {
      this.#looking = this.#look().then((nextMs) => {
        if (!this.#isClosed) this.start(nextMs)
      })
    }, afterMs)
    this.#timer.unref()
  }

  /** Ends when the look that is under way has. */
  async close(): Promise<void> {
    this.#isClosed = true
    clearTimeout(this.#timer)
    await this.#looking
  }

  /** @returns how long to wait for the next look */
  async #look(): Promise<number> {
    const { what, everyMs, log } = this.#what
    try {
      await this.#what.look()
      return everyMs
    } catch (error) {
      const isAway = error instanceof DatabaseUnavailable
      log[isAway ? 'debug' : 'warn']({ err: error }, `${what} could not be looked at, and are again soon`)
      return isAway ? everyMs : restMs
    }
  }
}
