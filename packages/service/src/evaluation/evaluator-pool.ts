import type { ChildProcess } from 'node:child_process'
import { readFileSync } from 'node:fs'
import { availableParallelism } from 'node:os'
import { LRUCache } from 'lru-cache'
import { evaluatorProgram } from './evaluator-program.ts'
import type { JobAnswer, JobInput, JobMessage, JobName, JobOutput } from './jobs.ts'
import { spawnBounded } from './spawn-bounded.ts'

/** An evaluation failed; the message continues a sentence that names what was evaluated. */
export class EvaluationFailed extends Error {
  override readonly name: string = 'EvaluationFailed'
}

/** It used up its time or memory, and was stopped with its process. */
export class EvaluationStopped extends EvaluationFailed {
  override readonly name = 'EvaluationStopped'
}

/** The owner has as many evaluations waiting as it may have. */
export class EvaluationsBusy extends Error {
  override readonly name = 'EvaluationsBusy'
}

/** Whose evaluation it is: each use of an app has one at a time. */
export type EvaluationOwner = { readonly appNo: number; readonly use: string }

export type EvaluationLimits = {
  /** Evaluations of one owner that may wait. */
  readonly maxWaiting: number
  /** The longest output, as JSON in UTF-16 units. */
  readonly maxCharacters: number
  /** After one was stopped, the owner’s next evaluations are refused for so long. */
  readonly backoffMs: number
  /** How often a stopped evaluation is tried: the first time it may have met a busy machine. */
  readonly maxTries: number
}

const startWithinMs = 20_000
const memoryMb = 128
/** Processor time of one evaluation. After each stop the owner’s next evaluation gets half of it, down to a quarter. */
const defaultTimeMs = 2_000
const minTimeShare = 0.25
/** On a busy machine an evaluation may take so many times its processor time by the clock. */
const maxWallFactor = 10
/** One core is left to the service. */
const maxProcesses = Math.max(1, availableParallelism() - 1)
/** For so many apps it is remembered when they were served; an app beyond them counts as one that never was. */
const maxApps = 10_000
const closedMessage = 'was not started: the service is stopping'
const stoppedByMemory = 'used more memory than it may have, or crashed'

type Result = JobAnswer | { readonly is: 'stopped'; readonly says: string }

type Job = {
  readonly appNo: number
  readonly owner: string
  readonly limits: EvaluationLimits
  readonly message: JobMessage
  tries: number
  resolve(output: unknown): void
  reject(error: Error): void
}

/**
 * Processes that evaluate what developers of apps wrote and strangers sent: JSONata, YAML, and CEL that could take long. An
 * evaluation that would never end is stopped with its process; one that uses up all memory ends its process, where in a thread it
 * would end the whole service. Apps take turns, and within an app its uses, with one evaluation at a time each: a slow one delays every
 * other app by one turn only, whatever it is for.
 */
export class EvaluatorPool {
  readonly #idle: ChildProcess[] = []
  readonly #all = new Set<ChildProcess>()
  /** Waiting jobs by owner, in the order of the owners’ next turns. */
  readonly #queues = new Map<string, Job[]>()
  readonly #busyOwners = new Set<string>()
  /** At which turn each app was served last. */
  readonly #servedAt = new LRUCache<number, number>({ max: maxApps })
  #turns = 0
  /** The time that an owner gets whose last evaluation was stopped. */
  readonly #reducedTimeMs = new Map<string, number>()
  /** Until when an owner is refused, by `performance.now()`. */
  readonly #backoffUntilMs = new Map<string, number>()
  /** Processor time of each process when it last answered. */
  readonly #usedMs = new WeakMap<ChildProcess, number>()
  readonly #timeMs: number
  #isClosed = false

  /** @param options.timeMs processor time of one evaluation */
  constructor({ timeMs = defaultTimeMs } = {}) {
    this.#timeMs = timeMs
  }

  /** @throws {EvaluationFailed} @throws {EvaluationStopped} @throws {EvaluationsBusy} */
  async run<Name extends JobName>(
    { appNo, use }: EvaluationOwner,
    limits: EvaluationLimits,
    name: Name,
    input: JobInput<Name>,
  ): Promise<JobOutput<Name>> {
    const owner = `${appNo} ${use}`
    if (this.#isClosed) throw new EvaluationFailed(closedMessage)
    if (this.#isResting(owner))
      throw new EvaluationFailed(`took longer than ${seconds(this.#timeMs)}; it will be tried again soon`)
    const queue = this.#queues.get(owner) ?? []
    if (queue.length >= limits.maxWaiting)
      throw new EvaluationsBusy(`more than ${limits.maxWaiting} evaluations are waiting`)
    const message = { name, input, maxCharacters: limits.maxCharacters }
    return new Promise<JobOutput<Name>>((resolve, reject) => {
      queue.push({
        appNo,
        owner,
        limits,
        message,
        tries: 0,
        resolve: (output) => resolve(output as JobOutput<Name>),
        reject,
      })
      this.#queues.set(owner, queue)
      this.#startNext()
    })
  }

  #isResting(owner: string): boolean {
    const untilMs = this.#backoffUntilMs.get(owner)
    if (untilMs === undefined) return false
    if (untilMs > performance.now()) return true
    this.#backoffUntilMs.delete(owner)
    return false
  }

  #startNext(): void {
    while (this.#busyOwners.size < maxProcesses) {
      const job = this.#nextJob()
      if (!job) return
      this.#servedAt.set(job.appNo, ++this.#turns)
      this.#busyOwners.add(job.owner)
      void this.#settle(job).finally(() => {
        this.#busyOwners.delete(job.owner)
        this.#startNext()
      })
    }
  }

  /** Of the app that was served longest ago, or never; its owner then goes to the end of the line. */
  #nextJob(): Job | undefined {
    let next: Job | undefined
    let nextAt = Number.POSITIVE_INFINITY
    for (const [owner, [job]] of this.#queues) {
      if (!job || this.#busyOwners.has(owner)) continue
      const at = this.#servedAt.peek(job.appNo) ?? 0
      if (at < nextAt) [next, nextAt] = [job, at]
    }
    if (!next) return undefined
    const rest = this.#queues.get(next.owner)?.slice(1) ?? []
    this.#queues.delete(next.owner)
    if (rest.length > 0) this.#queues.set(next.owner, rest)
    return next
  }

  /** Never rejects: the caller of {@link run} gets the error. */
  async #settle(job: Job): Promise<void> {
    try {
      job.resolve(await this.#evaluate(job))
    } catch (error) {
      const isTriedAgain = error instanceof EvaluationStopped && ++job.tries < job.limits.maxTries && !this.#isClosed
      if (isTriedAgain) this.#queues.set(job.owner, [job, ...(this.#queues.get(job.owner) ?? [])])
      else job.reject(error as Error)
    }
  }

  async #evaluate({ owner, limits, message }: Job): Promise<unknown> {
    const child = this.#idle.pop() ?? (await this.#start())
    const timeMs = this.#reducedTimeMs.get(owner) ?? this.#timeMs
    const answering = answerOf(child, timeMs, this.#usedMs.get(child))
    child.send(message)
    const answer = await answering
    if (answer.is === 'stopped') {
      this.#reducedTimeMs.set(owner, Math.max(this.#timeMs * minTimeShare, timeMs / 2))
      if (limits.backoffMs > 0) this.#backoffUntilMs.set(owner, performance.now() + limits.backoffMs)
      throw new EvaluationStopped(answer.says)
    }
    this.#reducedTimeMs.delete(owner)
    this.#usedMs.set(child, answer.usedMs)
    this.#idle.push(child)
    if (answer.is === 'done') return answer.output
    throw new EvaluationFailed(answer.is === 'failed' ? answer.says : 'was answered out of turn')
  }

  async #start(): Promise<ChildProcess> {
    if (this.#isClosed) throw new EvaluationFailed(closedMessage)
    const child = spawnBounded(evaluatorProgram, { memoryMb })
    this.#all.add(child)
    child.once('exit', () => {
      this.#all.delete(child)
      const at = this.#idle.indexOf(child)
      if (at >= 0) this.#idle.splice(at, 1)
    })
    const answer = await answerOf(child, startWithinMs)
    if (answer.is !== 'ready') throw new EvaluationsBusy('no evaluator could be started')
    this.#usedMs.set(child, answer.usedMs)
    return child
  }

  /** Rejects what waits and breaks off what runs. */
  close(): void {
    this.#isClosed = true
    const waiting = [...this.#queues.values()].flat()
    this.#queues.clear()
    for (const { reject } of waiting) reject(new EvaluationFailed(closedMessage))
    for (const child of this.#all) child.kill('SIGKILL')
  }
}

/** The next answer of a process, which is stopped when it has used its time. @param usedBeforeMs its processor time until now */
function answerOf(child: ChildProcess, timeMs: number, usedBeforeMs = 0): Promise<Result> {
  return new Promise((done) => {
    const settle = (result: Result) => {
      clearTimeout(timer)
      child.off('message', settle).off('exit', onEnd).off('error', onEnd)
      done(result)
    }
    const onEnd = () => settle({ is: 'stopped', says: stoppedByMemory })
    const startedMs = performance.now()
    const check = () => {
      const usedMs = (processorTimeMs(child.pid) ?? Number.POSITIVE_INFINITY) - usedBeforeMs
      if (usedMs < timeMs && performance.now() - startedMs < timeMs * maxWallFactor) {
        timer = setTimeout(check, Math.max(timeMs / 10, timeMs - usedMs))
        return
      }
      child.kill('SIGKILL')
      settle({ is: 'stopped', says: `took longer than ${seconds(timeMs)}, and was stopped` })
    }
    let timer = setTimeout(check, timeMs)
    child.on('message', settle).once('exit', onEnd).once('error', onEnd)
  })
}

const seconds = (ms: number): string => (ms === 1_000 ? '1 second' : `${ms / 1_000} seconds`)

/**
 * Processor time that a process has used (proc(5), “stat”, fields 14 and 15, in ticks of 10 ms).
 * @returns ms; undefined where the system does not say, and then time by the clock counts
 */
function processorTimeMs(pid: number | undefined): number | undefined {
  try {
    const text = readFileSync(`/proc/${pid}/stat`, 'latin1')
    const fields = text.slice(text.lastIndexOf(')') + 2).split(' ')
    return (Number(fields[11]) + Number(fields[12])) * 10
  } catch {
    return undefined
  }
}
