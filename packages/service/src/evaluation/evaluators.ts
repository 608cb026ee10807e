import { type ChildProcess, spawn } from 'node:child_process'
import { readFileSync } from 'node:fs'
import { availableParallelism, setPriority } from 'node:os'
import { evaluatorProgram } from './evaluator-program.ts'
import type { GivenOf, JobName, ResultOf } from './jobs.ts'

export type { GivenOf, JobName, ResultOf } from './jobs.ts'

/** What was to be evaluated fails, in words that go on from its name. */
export class EvaluationFailed extends Error {
  override readonly name: string = 'EvaluationFailed'
}

/** It took more time or memory than it may have, and was stopped with its process. */
export class EvaluationStopped extends EvaluationFailed {
  override readonly name = 'EvaluationStopped'
}

/** More of an owner waits already than may. */
export class EvaluationsBusy extends Error {
  override readonly name = 'EvaluationsBusy'
}

/** What one use of the processes may have of them. */
export type Share = {
  /** Of one owner so many wait at most. */
  readonly mostWaiting: number
  /** The longest result of an expression, as JSON. */
  readonly mostCharacters: number
  /** An owner whose expression was stopped is not evaluated again for so long. */
  readonly restMs: number
  /** What was stopped may have met a busy machine, and is begun so often. */
  readonly tries: number
}

/** Nobody waits longer for a process to begin. */
const beginsWithinMs = 20_000
const memoryMb = 128
/**
 * An evaluation that takes more processor time is stopped, whatever it is doing; of an owner whose last was stopped, sooner and
 * sooner. On a machine that has much else to do it may take so many times longer by the clock.
 */
const usualWithinMs = 2_000
/** Of what it could take at first, it is given so much at least. */
const leastShare = 0.25
const patience = 10
/** Below the service, whatever waits for them. */
const priority = 10
/** They never take all cores from what the service does for everybody. */
const mostProcesses = Math.max(1, availableParallelism() - 1)
const stopping = 'was not begun: the service stops'

type Answer = {
  readonly ready?: true
  readonly result?: unknown
  readonly fault?: string
  readonly stopped?: true
}

type Job = {
  readonly owner: string
  readonly share: Share
  readonly name: JobName
  readonly given: unknown
  tries: number
  done(result: unknown): void
  fail(error: Error): void
}

/**
 * Processes of their own for what apps' developers wrote, and strangers sent: JSONata, YAML, and CEL that could take long. What
 * would never end is stopped with its process; what takes all memory ends it, where it would end a thread's whole process.
 * Owners take turns, one at a time each, so that one whose expressions are slow costs each other one of its turns, and not all of
 * them.
 */
export class Evaluators {
  readonly #idle: ChildProcess[] = []
  readonly #all = new Set<ChildProcess>()
  /** What waits, by owner; whoever is first is next. */
  readonly #lanes = new Map<string, Job[]>()
  readonly #working = new Set<string>()
  /** Within how many ms an evaluation has to end, of owners whose last was stopped. */
  readonly #within = new Map<string, number>()
  /** Until when an owner rests, in ms of this process. */
  readonly #resting = new Map<string, number>()
  readonly #withinMs: number
  #isClosed = false

  /** @param given `withinMs`: the processor time that an evaluation may take */
  constructor({ withinMs = usualWithinMs } = {}) {
    this.#withinMs = withinMs
  }

  /**
   * @param owner whose it is: an app, and what of it
   * @throws {EvaluationFailed} @throws {EvaluationsBusy}
   */
  async run<Name extends JobName>(
    owner: string,
    share: Share,
    name: Name,
    given: GivenOf<Name>,
  ): Promise<ResultOf<Name>> {
    if (this.#isClosed) throw new EvaluationFailed(stopping)
    if (this.#rests(owner))
      throw new EvaluationFailed(`took longer than ${seconds(this.#withinMs)}; it is tried again soon`)
    const waiting = this.#lanes.get(owner) ?? []
    if (waiting.length >= share.mostWaiting)
      throw new EvaluationsBusy(`more than ${share.mostWaiting} messages wait for its expression`)
    this.#lanes.set(owner, waiting)
    return new Promise<ResultOf<Name>>((done, fail) => {
      waiting.push({ owner, share, name, given, tries: 0, done: (result) => done(result as ResultOf<Name>), fail })
      this.#next()
    })
  }

  /**
   * @param input JSON
   * @returns the result of each as JSON; null for one that makes nothing
   * @throws {EvaluationFailed} @throws {EvaluationsBusy}
   */
  async jsonata(
    owner: string,
    share: Share,
    expressions: readonly string[],
    input: string,
  ): Promise<readonly (string | null)[]> {
    const texts = await this.run(owner, share, 'jsonata', { expressions, input })
    const { mostCharacters } = share
    const long = texts.find((text) => text !== null && text.length > mostCharacters)
    if (long)
      throw new EvaluationFailed(
        `made ${long.length.toLocaleString('en')} characters; ${mostCharacters.toLocaleString('en')} at most`,
      )
    return texts
  }

  #rests(owner: string): boolean {
    const untilMs = this.#resting.get(owner)
    if (untilMs === undefined) return false
    if (untilMs > performance.now()) return true
    this.#resting.delete(owner)
    return false
  }

  /** Of the owner that has waited longest; behind the others it waits for its next turn. */
  #next(): void {
    for (const [owner, [first, ...rest]] of this.#lanes) {
      if (this.#working.size >= mostProcesses) return
      if (this.#working.has(owner)) continue
      this.#lanes.delete(owner)
      if (rest.length > 0) this.#lanes.set(owner, rest)
      if (!first) continue
      this.#working.add(owner)
      void this.#work(first).finally(() => {
        this.#working.delete(owner)
        this.#next()
      })
    }
  }

  /** Never throws: whoever asked hears of it. */
  async #work(job: Job): Promise<void> {
    try {
      job.done(await this.#evaluate(job))
    } catch (error) {
      // It is its turn again when the others have had theirs.
      if (error instanceof EvaluationStopped && ++job.tries < job.share.tries && !this.#isClosed)
        this.#lanes.set(job.owner, [job, ...(this.#lanes.get(job.owner) ?? [])])
      else job.fail(error as Error)
    }
  }

  async #evaluate({ owner, share, name, given }: Job): Promise<unknown> {
    const child = this.#idle.pop() ?? (await this.#start())
    const ms = this.#within.get(owner) ?? this.#withinMs
    const answering = this.#answerOf(child, ms)
    child.send({ name, given })
    const { result, fault, stopped } = await answering
    if (stopped) this.#within.set(owner, Math.max(this.#withinMs * leastShare, ms / 2))
    else this.#within.delete(owner)
    if (stopped && share.restMs > 0) this.#resting.set(owner, performance.now() + share.restMs)
    if (!stopped) this.#idle.push(child)
    if (fault === undefined) return result
    throw stopped ? new EvaluationStopped(fault) : new EvaluationFailed(fault)
  }

  async #start(): Promise<ChildProcess> {
    if (this.#isClosed) throw new EvaluationFailed(stopping)
    const child = spawn(process.execPath, [`--max-old-space-size=${memoryMb}`, '-'], {
      stdio: ['pipe', 'ignore', 'ignore', 'ipc'],
      // Rows have moments in them, which JSON does not know.
      serialization: 'advanced',
      env: {},
    })
    // It must not keep this process alive, and ends with it.
    child.unref()
    child.channel?.unref()
    this.#all.add(child)
    // Whoever waits for its answer hears that it has ended.
    child.on('error', () => {})
    child.stdin?.on('error', () => {})
    child.once('exit', () => {
      this.#all.delete(child)
      const at = this.#idle.indexOf(child)
      if (at >= 0) this.#idle.splice(at, 1)
    })
    lower(child.pid)
    const answering = this.#answerOf(child, beginsWithinMs)
    child.stdin?.end(evaluatorProgram)
    const { ready, fault } = await answering
    if (!ready) throw new EvaluationFailed(fault ?? 'could not be begun')
    return child
  }

  /** The next that a process says, or that it says nothing any more. */
  #answerOf(child: ChildProcess, ms: number): Promise<Answer> {
    return new Promise((done) => {
      const settle = (answer: Answer) => {
        clearTimeout(enough)
        child.off('message', settle).off('exit', broke).off('error', broke)
        done(answer)
      }
      const broke = () => settle({ fault: 'took more memory than it may have, or broke off', stopped: true })
      const [beganMs, usedBefore] = [performance.now(), usedMs(child.pid)]
      const look = () => {
        const used = (usedMs(child.pid) ?? Number.POSITIVE_INFINITY) - (usedBefore ?? 0)
        if (used < ms && performance.now() - beganMs < ms * patience) {
          enough = setTimeout(look, Math.max(ms / 10, ms - used))
          return
        }
        child.kill('SIGKILL')
        settle({ fault: `took longer than ${seconds(ms)}, and was stopped`, stopped: true })
      }
      let enough = setTimeout(look, ms)
      child.on('message', settle).once('exit', broke).once('error', broke)
    })
  }

  /** Whoever waits hears that nothing comes of it; nothing is begun any more. */
  close(): void {
    this.#isClosed = true
    const waiting = [...this.#lanes.values()].flat()
    this.#lanes.clear()
    for (const { fail } of waiting) fail(new EvaluationFailed(stopping))
    for (const child of this.#all) child.kill('SIGKILL')
  }
}

/** Puts a process behind all others, unless it has ended already. */
function lower(pid: number | undefined): void {
  try {
    if (pid !== undefined) setPriority(pid, priority)
  } catch (error) {
    if ((error as NodeJS.ErrnoException).code !== 'ERR_SYSTEM_ERROR') throw error
  }
}

const seconds = (ms: number): string => (ms === 1_000 ? '1 second' : `${ms / 1_000} seconds`)

/** What a process took of the processors, in ms: proc(5), “stat”, fields 14 and 15, in ticks of 10 ms. @returns undefined where nobody tells */
function usedMs(pid: number | undefined): number | undefined {
  try {
    const text = readFileSync(`/proc/${pid}/stat`, 'latin1')
    const fields = text.slice(text.lastIndexOf(')') + 2).split(' ')
    return (Number(fields[11]) + Number(fields[12])) * 10
  } catch {
    return undefined
  }
}
