import type { Logger } from 'pino'

/** What is needed does not answer at this moment; nothing is known to be lost, and a later try may go through. */
export class Outage extends Error {
  override readonly name: string = 'Outage'
}

export type PollerOptions = {
  /** What is polled, for the log: `schedules`, `due work`. */
  readonly name: string
  /** So long after a poll the next one follows, unless something wakes it before. */
  readonly everyMs: number | (() => number)
  /** So long after one that failed; for an outage `outageMs`, or `everyMs` when that is left out. */
  readonly backoffMs?: number
  readonly outageMs?: number
  readonly log: Pick<Logger, 'debug' | 'warn'>
  /** @returns true when there may be more: the next poll follows at once */
  poll(): Promise<unknown>
}

export const backoffMsDefault = 5_000

/** Polls again and again, one poll after the other, until it is closed. What fails is polled again after a while. */
export class Poller {
  readonly #options: PollerOptions
  #loop: Promise<void> | undefined
  #state: 'idle' | 'running' | 'closed' = 'idle'
  #isWoken = false
  #isAway = false
  #wakeUp: () => void = () => {}

  constructor(options: PollerOptions) {
    this.#options = options
  }

  /** A poll that goes on for long asks between its steps. */
  get isClosed(): boolean {
    return this.#state === 'closed'
  }

  /** @param firstMs so long until the first poll */
  start(firstMs = this.#everyMs()): this {
    if (this.#state === 'idle') {
      this.#state = 'running'
      this.#loop = this.#run(firstMs)
    }
    return this
  }

  /** There may be something: polls at once, or once more when a poll is under way. */
  wake(): void {
    this.#isWoken = true
    this.#wakeUp()
  }

  /** Ends when the poll that is under way has. */
  async close(): Promise<void> {
    this.#state = 'closed'
    this.#wakeUp()
    await this.#loop
  }

  async #run(firstMs: number): Promise<void> {
    for (let waitMs = firstMs; ; ) {
      if (waitMs > 0 && !this.#isWoken) await this.#rest(waitMs)
      if (this.isClosed) return
      this.#isWoken = false
      waitMs = await this.#poll()
    }
  }

  #rest(ms: number): Promise<void> {
    return new Promise((done) => {
      const timer = setTimeout(done, ms).unref()
      this.#wakeUp = () => {
        clearTimeout(timer)
        done()
      }
    })
  }

  /** @returns how long to wait for the next */
  async #poll(): Promise<number> {
    const { name, backoffMs = backoffMsDefault, outageMs, log } = this.#options
    try {
      const mayBeMore = await this.#options.poll()
      this.#isAway = false
      return mayBeMore === true ? 0 : this.#everyMs()
    } catch (error) {
      const isOutage = error instanceof Outage
      // Of an outage everybody else tells as well.
      log[isOutage && this.#isAway ? 'debug' : 'warn']({ err: error }, `${name}: a poll failed; another follows`)
      this.#isAway = isOutage
      return isOutage ? (outageMs ?? this.#everyMs()) : backoffMs
    }
  }

  #everyMs(): number {
    const { everyMs } = this.#options
    return typeof everyMs === 'number' ? everyMs : everyMs()
  }
}
