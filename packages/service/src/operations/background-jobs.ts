import { randomBytes } from 'node:crypto'
import { hostname } from 'node:os'
import type { Logger } from 'pino'
import { Outage, Poller } from '../base/index.ts'
import { type Database, Lease } from '../database/index.ts'
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
/** How often is asked whether one is due: a twentieth of its interval, within these bounds. */
const [minPollMs, maxPollMs] = [1_000, 60_000]

/**
 * Runs jobs, each by its own interval. Any number of processes may have the same ones: for each run one of them takes the
 * job, and shows a sign of life while it is at it; when it dies, another takes over as soon as its lease has run out.
 */
export class BackgroundJobs {
  readonly #database: Database
  readonly #log: Logger
  readonly #events: JobEvents
  readonly #leaseMs: number
  readonly #pollers: Poller[] = []
  #isClosed = false

  constructor(database: Database, log: Logger, events: JobEvents, lease = leaseMs) {
    this.#database = database
    this.#log = log
    this.#events = events
    this.#leaseMs = lease
  }

  async start(jobs: readonly BackgroundJob[]): Promise<void> {
    for (const job of jobs) {
      await declareJob(this.#database, job.name, job.everySeconds)
      const everyMs = Math.min(maxPollMs, Math.max(minPollMs, job.everySeconds * 50))
      const poller = new Poller({
        name: `the job ${job.name}`,
        everyMs: () => everyMs * (0.8 + Math.random() * 0.4),
        log: this.#log,
        poll: async () => void (await this.runIfDue(job)),
      })
      this.#pollers.push(poller.start(Math.random() * minPollMs))
    }
  }

  /** Runs a job now when it is due and nobody else runs it. @returns whether it was this process that did */
  async runIfDue(job: BackgroundJob): Promise<boolean> {
    const { name } = job
    const owner = randomBytes(16)
    const takenMs = performance.now()
    if (!(await takeJob(this.#database, name, owner, `${hostname()}:${process.pid}`, this.#leaseMs))) return false
    const lease = new Lease(() => renewJob(this.#database, name, owner, this.#leaseMs), {
      leaseMs: this.#leaseMs,
      takenMs,
      onError: (error) => this.#log.warn({ err: error, job: name }, 'cannot extend the lease of a job'),
    })
    const startMs = performance.now()
    let failure: string | null = null
    try {
      await job.run(() => lease.isHeld && !this.#isClosed)
    } catch (error) {
      failure = error instanceof Error ? error.message : String(error)
      const level = error instanceof Outage ? 'warn' : 'error'
      this.#log[level]({ err: error, job: name }, 'a background job failed and is run again when it is due')
    } finally {
      lease.end()
    }
    const durationMs = performance.now() - startMs
    this.#events.onRun(name, durationMs, failure !== null)
    await finishJob(this.#database, name, owner, { durationMs, error: failure, jitter: 0.9 + Math.random() * 0.2 })
    return true
  }

  async close(): Promise<void> {
    this.#isClosed = true
    await Promise.all(this.#pollers.map((poller) => poller.close()))
  }
}
