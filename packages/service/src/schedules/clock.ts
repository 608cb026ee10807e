import pLimit from 'p-limit'
import type { Logger } from 'pino'
import { backoffMsDefault, Outage, Poller } from '../base/index.ts'
import type { Database } from '../database/index.ts'
import type { Schedules } from './schedules.ts'
import type { RunState } from './store/runs.ts'
import { type DueSchedule, dueSchedules } from './store/schedules.ts'

/** So often is asked which schedules are due: an index says so, and none is read that is not. */
const pollMs = 400
/** So many are read at once, so many share a transaction, and so many transactions run at a time. */
const [readSize, batchSize, concurrency] = [400, 50, 2]

/** Rings schedules when their time has come. Any number of processes may have one: each time is settled once. */
export class ScheduleClock {
  readonly #database: Database
  readonly #schedules: Schedules
  readonly #log: Logger
  readonly #onSettled: (state: RunState) => void
  readonly #beside = pLimit(concurrency)
  readonly #backoff = new Map<number, number>()
  readonly #poller: Poller

  /** @param onSettled is called with what became of each time */
  constructor(database: Database, schedules: Schedules, log: Logger, onSettled: (state: RunState) => void = () => {}) {
    this.#onSettled = onSettled
    this.#database = database
    this.#schedules = schedules
    this.#log = log
    this.#poller = new Poller({
      name: 'schedules',
      everyMs: pollMs,
      log,
      poll: async () => (await this.settleDue()) === readSize,
    })
  }

  start(): void {
    this.#poller.start()
  }

  close(): Promise<void> {
    return this.#poller.close()
  }

  /** Settles what is due now. @returns how many were found */
  async settleDue(): Promise<number> {
    for (const [no, untilMs] of this.#backoff) if (untilMs <= performance.now()) this.#backoff.delete(no)
    // Those that rest do not stand in the way of others.
    const ready = await dueSchedules(this.#database, readSize, [...this.#backoff.keys()])
    const parts: DueSchedule[][] = []
    for (let at = 0; at < ready.length; at += batchSize) parts.push(ready.slice(at, at + batchSize))
    await Promise.all(parts.map((part) => this.#beside(() => this.#settle(part))))
    return ready.length
  }

  async #settle(part: readonly DueSchedule[]): Promise<void> {
    if (this.#poller.isClosed) return
    try {
      for (const state of await this.#schedules.settle(part)) this.#onSettled(state)
    } catch (error) {
      // A database that is away is no schedule’s fault.
      if (error instanceof Outage) throw error
      const [first, ...more] = part
      // One of them is at fault: each by itself, so that the others ring.
      if (more.length > 0) for (const one of part) await this.#settle([one])
      else if (first) {
        this.#backoff.set(first.schedule.no, performance.now() + backoffMsDefault)
        const { name } = first.schedule
        this.#log.warn({ err: error, schedule: name }, 'a schedule could not be settled, and is tried again')
      }
    }
  }
}
