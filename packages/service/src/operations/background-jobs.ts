import { randomBytes } from 'node:crypto'
import { hostname } from 'node:os'
import type { Logger } from 'pino'
import { type Database, DatabaseUnavailable } from '../database/index.ts'
import { declareJob, finishJob, renewJob, takeJob } from './store/jobs.ts'

/** Something that has to happen as time goes by, whoever sends or asks. */
export type BackgroundJob = {
  /** Small letters and hyphens; it names the job on Health and in the metrics. */
  readonly name: string
  readonly everySeconds: number
  /**
   * Does it. A long one asks now and then whether it still may: not when the process is to stop, nor when another has the job.
   */
  run(mayGoOn: () => boolean): Promise<void>
}

export type JobEvents = { onRun(name: string, durationMs: number, failed: boolean): void }

const leaseMs = 30_000
/** How often is looked whether one is due: a twentieth of its interval, within these bounds. */
const lookAtLeastMs = 1_000
const lookAtMostMs = 60_000

/**
 * Runs jobs, each by its own interval. Any number of processes may have the same ones: for each run one of them takes the
 * job, and shows a sign of life while it is at it; when it dies, another takes over as soon as its lease has run out.
 */
export class BackgroundJobs {
  readonly #database: Database
  readonly #log: Logger
  readonly #events: JobEvents
  readonly #leaseMs: number
  readonly #timers = new Set<NodeJS.Timeout>()
  readonly #active = new Set<Promise<void>>()
  #stopped = false

  constructor(database: Database, log: Logger, events: JobEvents, lease = leaseMs) {
    this.#database = database
    this.#log = log
    this.#events = events
    this.#leaseMs = lease
  }

  async start(jobs: readonly BackgroundJob[]): Promise<void> {
    for (const job of jobs) {
      await declareJob(this.#database, job.name, job.everySeconds)
      this.#lookLater(job, Math.random() * lookAtLeastMs)
    }
  }

  /** Runs a job now when it is due and nobody else runs it. @returns whether it was this process that did */
  async runIfDue(job: BackgroundJob): Promise<boolean> {
    const { name } = job
    const owner = randomBytes(16)
    // From before it was asked for, so that it ends here no later than in the database, whoever is slow.
    let oursUntilMs = performance.now() + this.#leaseMs
    if (!(await takeJob(this.#database, name, owner, `${hostname()}:${process.pid}`, this.#leaseMs))) return false
    const alive = setInterval(() => {
      const untilMs = performance.now() + this.#leaseMs
      renewJob(this.#database, name, owner, this.#leaseMs).then(
        (renewed) => {
          oursUntilMs = renewed ? untilMs : 0
        },
        (error: unknown) => this.#log.warn({ err: error, job: name }, 'a job cannot show that it is alive'),
      )
    }, this.#leaseMs / 3)
    const startMs = performance.now()
    let failure: string | null = null
    try {
      await job.run(() => performance.now() < oursUntilMs && !this.#stopped)
    } catch (error) {
      failure = error instanceof Error ? error.message : String(error)
      const level = error instanceof DatabaseUnavailable ? 'warn' : 'error'
      this.#log[level]({ err: error, job: name }, 'a background job failed and is run again when it is due')
    } finally {
      clearInterval(alive)
    }
    const durationMs = performance.now() - startMs
    this.#events.onRun(name, durationMs, failure !== null)
    await finishJob(this.#database, name, owner, { durationMs, error: failure, jitter: 0.9 + Math.random() * 0.2 })
    return true
  }

  async close(): Promise<void> {
    this.#stopped = true
    for (const timer of this.#timers) clearTimeout(timer)
    await Promise.all(this.#active)
  }

  #lookLater(job: BackgroundJob, afterMs: number): void {
    if (this.#stopped) return
    const timer = setTimeout(() => {
      this.#timers.delete(timer)
      const run = this.runIfDue(job)
        .then(
          () => {},
          (error: unknown) => this.#log.debug({ err: error, job: job.name }, 'a job could not be looked after'),
        )
        .finally(() => {
          this.#active.delete(run)
          const lookMs = Math.min(lookAtMostMs, Math.max(lookAtLeastMs, job.everySeconds * 50))
          this.#lookLater(job, lookMs * (0.8 + Math.random() * 0.4))
        })
      this.#active.add(run)
    }, afterMs)
    timer.unref()
    this.#timers.add(timer)
  }
}
