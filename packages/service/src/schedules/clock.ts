import pLimit from 'p-limit'
import type { Logger } from 'pino'
import { type Database, DatabaseUnavailable, Looks, restMs } from '../database/index.ts'
import type { Schedules } from './schedules.ts'
import type { RunState } from './store/runs.ts'
import { type DueSchedule, dueSchedules } from './store/schedules.ts'

/** So often it is looked which schedules are due: an index says so, and none is looked at that is not. */
const lookEveryMs = 400
/** So many are read at once, so many share a transaction, and so many transactions run beside each other. */
const together = { read: 400, settled: 50, beside: 2 }

/** Rings schedules when their time has come. Any number of processes may have one: each time is settled once. */
export class ScheduleClock {
  readonly #database: Database
  readonly #schedules: Schedules
  readonly #log: Logger
  readonly #onSettled: (state: RunState) => void
  readonly #beside = pLimit(together.beside)
  readonly #resting = new Map<number, number>()
  readonly #looks: Looks

  /** @param onSettled hears what became of each time */
  constructor(database: Database, schedules: Schedules, log: Logger, onSettled: (state: RunState) => void = () => {}) {
    this.#onSettled = onSettled
    this.#database = database
    this.#schedules = schedules
    this.#log = log
    this.#looks = new Looks({
      what: 'schedules',
      everyMs: lookEveryMs,
      log,
      look: async () => {
        while (!this.#looks.isClosed && (await this.settleDue()) === together.read);
      },
    })
  }

  start(): void {
    this.#looks.start()
  }

  close(): Promise<void> {
    return this.#looks.close()
  }

  /** Settles what is due now. @returns how many were found */
  async settleDue(): Promise<number> {
    for (const [no, untilMs] of this.#resting) if (untilMs <= performance.now()) this.#resting.delete(no)
    // Those that rest do not stand in the way of others.
    const ready = await dueSchedules(this.#database, together.read, [...this.#resting.keys()])
    const parts: DueSchedule[][] = []
    for (let at = 0; at < ready.length; at += together.settled) parts.push(ready.slice(at, at + together.settled))
    await Promise.all(parts.map((part) => this.#beside(() => this.#settle(part))))
    return ready.length
  }

  async #settle(part: readonly DueSchedule[]): Promise<void> {
    if (this.#looks.isClosed) return
    try {
      for (const state of await this.#schedules.settle(part)) this.#onSettled(state)
    } catch (error) {
      // A database that is away is no schedule’s fault.
      if (error instanceof DatabaseUnavailable) throw error
      const [first, ...more] = part
      // One of them is at fault: each by itself, so that the others ring.
      if (more.length > 0) for (const one of part) await this.#settle([one])
      else if (first) {
        this.#resting.set(first.schedule.no, performance.now() + restMs)
        const { name } = first.schedule
        this.#log.warn({ err: error, schedule: name }, 'a schedule could not be settled, and is tried again')
      }
    }
  }
}
