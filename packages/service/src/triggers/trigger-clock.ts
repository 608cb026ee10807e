import type { Logger } from 'pino'
import { DatabaseUnavailable } from '../store/errors.ts'
import type { Triggers } from './triggers.ts'

/** So often it is looked whether something waits for a trigger. */
const lookEveryMs = 250
/** What could not be done is left alone for so long. */
const restMs = 5_000

/** Lets triggers fire. Any number of processes may have one: each row and each event fires once. */
export class TriggerClock {
  readonly #triggers: Triggers
  readonly #log: Logger
  #timer: NodeJS.Timeout | undefined
  #looking: Promise<void> = Promise.resolve()
  #stopped = false

  constructor(triggers: Triggers, log: Logger) {
    this.#triggers = triggers
    this.#log = log
  }

  start(afterMs = lookEveryMs): void {
    this.#timer = setTimeout(() => {
      this.#looking = this.#look().then((nextMs) => {
        if (!this.#stopped) this.start(nextMs)
      })
    }, afterMs)
    this.#timer.unref()
  }

  async close(): Promise<void> {
    this.#stopped = true
    clearTimeout(this.#timer)
    await this.#looking
  }

  /** @returns how long to wait for the next look */
  async #look(): Promise<number> {
    try {
      while (!this.#stopped && (await this.#triggers.fireWaiting()) + (await this.#triggers.fireDue()) > 0);
      return lookEveryMs
    } catch (error) {
      const level = error instanceof DatabaseUnavailable ? 'debug' : 'warn'
      this.#log[level]({ err: error }, 'triggers could not be looked at, and are again soon')
      return error instanceof DatabaseUnavailable ? lookEveryMs : restMs
    }
  }
}
