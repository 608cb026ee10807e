import { randomBytes } from 'node:crypto'
import type { Logger } from 'pino'
import type { Database } from '../store/database.ts'
import { DatabaseUnavailable } from '../store/errors.ts'
import { takeLease } from '../store/lease.ts'
import { forgetDays } from '../store/notifications/day-counts.ts'
import { thinDeliveries } from '../store/notifications/thin-deliveries.ts'
import { forgetSilent } from '../store/processes.ts'

const lookEveryMs = 60_000
const leaseSeconds = 180
/** Two years and a month: this one can be held against the last. */
const dayCountsKept = 760

/** What has to happen as time goes by, whoever sends or asks. Of several processes one does it. */
export class Clock {
  readonly #database: Database
  readonly #days: number
  readonly #log: Logger
  readonly #owner = randomBytes(16)
  readonly #timer: NodeJS.Timeout
  #running = true
  #busy: Promise<void> = Promise.resolve()

  /** @param days after which deliveries are thinned; 0 for never */
  constructor(database: Database, days: number, log: Logger) {
    this.#database = database
    this.#days = days
    this.#log = log
    this.#timer = setInterval(() => {
      this.#busy = this.#busy.then(() => this.tick())
    }, lookEveryMs)
    this.#timer.unref()
  }

  async tick(): Promise<void> {
    try {
      if (!(await takeLease(this.#database, 'clock', this.#owner, leaseSeconds))) return
      await forgetSilent(this.#database)
      await forgetDays(this.#database, dayCountsKept)
      if (this.#days === 0) return
      const thinned = await thinDeliveries(this.#database, this.#days, () => this.#running)
      if (thinned > 0) this.#log.info({ notifications: thinned }, 'old deliveries were thinned to their totals')
    } catch (error) {
      if (!(error instanceof DatabaseUnavailable)) this.#log.error({ err: error }, 'the clock could not do its work')
    }
  }

  async close(): Promise<void> {
    this.#running = false
    clearInterval(this.#timer)
    await this.#busy
  }
}
