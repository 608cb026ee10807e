import { type ChildProcess, spawn } from 'node:child_process'
import { createRequire } from 'node:module'
import { mostAliases, type ReadYaml, readYaml } from './read-yaml.ts'

/** An expression fails, in words that go on from its name. */
export class ExpressionFailed extends Error {
  override readonly name = 'ExpressionFailed'
}

/** More of an owner waits already than may. */
export class ExpressionsBusy extends Error {
  override readonly name = 'ExpressionsBusy'
}

type Bounds = {
  /** So many processes; of each owner one expression runs at a time. */
  readonly processes: number
  /** Of one owner so many wait at most. */
  readonly mostWaiting: number
  /** The longest result, as JSON. */
  readonly mostCharacters: number
  /** An owner whose expression was stopped is not evaluated again for so long. */
  readonly restMs: number
  /** An expression that takes longer is stopped, whatever it is doing. */
  readonly withinMs?: number
}

/** Nobody waits longer for a process to begin. */
const beginsWithinMs = 20_000
const memoryMb = 128
/** Of expressions so many are kept read. */
const mostRead = 200

/** What a process runs: some expressions over one input after the other, or a reader of YAML. It has no way out but its answer. */
const program = `
const jsonata = require(process.argv[1])
const yaml = require(process.argv[2])
const readYaml = ${readYaml}
const read = new Map()
const readyFor = (text) => {
  let ready = read.get(text)
  if (!ready) {
    if (read.size >= ${mostRead}) read.clear()
    read.set(text, (ready = jsonata(text)))
  }
  return ready
}
process.on('disconnect', () => process.exit())
process.on('message', async ({ expressions, input, isYaml }) => {
  let answer
  try {
    if (isYaml) {
      process.send({ texts: [JSON.stringify(readYaml(yaml, input, ${mostAliases}))] })
      return
    }
    const given = JSON.parse(input)
    const texts = []
    for (const text of expressions) {
      const made = JSON.stringify(await readyFor(text).evaluate(given))
      texts.push(made === undefined ? null : made)
    }
    answer = { texts }
  } catch (error) {
    answer = { fault: String((error && error.message) || error).slice(0, 300) }
  }
  process.send(answer)
})
process.send({ ready: true })`

type Texts = readonly (string | null)[]
type Answer = { readonly ready?: true; readonly texts?: Texts; readonly fault?: string; readonly stopped?: true }
type Job = {
  readonly expressions: readonly string[]
  readonly input: string
  readonly isYaml?: true
  done(texts: Texts): void
  fail(error: Error): void
}

/**
 * Processes of their own for JSONata that apps' developers wrote. An expression, or a pattern in it, that would never end is
 * stopped with its process; one that takes all memory ends it, where it would end a thread's whole process. Owners take turns,
 * so that one whose expressions are slow costs each other one of its turns, and not all of them.
 */
export class ExpressionProcesses {
  readonly #bounds: Required<Bounds>
  readonly #idle: ChildProcess[] = []
  readonly #all = new Set<ChildProcess>()
  /** What waits, by owner; whoever is first is next. */
  readonly #lanes = new Map<string, Job[]>()
  readonly #working = new Set<string>()
  /** Until when an owner rests, in ms of this process. */
  readonly #resting = new Map<string, number>()
  #isClosed = false

  constructor(bounds: Bounds) {
    this.#bounds = { withinMs: 2_000, ...bounds }
  }

  /**
   * @param input JSON
   * @returns the result of each as JSON; null for one that makes nothing
   * @throws {ExpressionFailed} @throws {ExpressionsBusy}
   */
  evaluate(owner: string, expressions: readonly string[], input: string): Promise<Texts> {
    return this.#ask(owner, { expressions, input })
  }

  /** Reads YAML that an app’s developers wrote. @throws {ExpressionFailed} @throws {ExpressionsBusy} */
  async readYaml(owner: string, text: string): Promise<ReadYaml> {
    const [read] = await this.#ask(owner, { expressions: [], input: text, isYaml: true })
    return JSON.parse(read ?? 'null') as ReadYaml
  }

  #ask(owner: string, asked: Pick<Job, 'expressions' | 'input' | 'isYaml'>): Promise<Texts> {
    const { mostWaiting, withinMs } = this.#bounds
    if (this.#isClosed) return Promise.reject(new ExpressionFailed('was not begun: the service stops'))
    if (this.#rests(owner))
      return Promise.reject(
        new ExpressionFailed(`took longer than ${withinMs / 1_000} seconds; it is tried again soon`),
      )
    const waiting = this.#lanes.get(owner) ?? []
    if (waiting.length >= mostWaiting)
      return Promise.reject(new ExpressionsBusy(`more than ${mostWaiting} messages wait for its expression`))
    this.#lanes.set(owner, waiting)
    return new Promise((done, fail) => {
      waiting.push({ ...asked, done, fail })
      this.#next()
    })
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
      if (this.#working.size >= this.#bounds.processes) return
      if (this.#working.has(owner)) continue
      this.#lanes.delete(owner)
      if (rest.length > 0) this.#lanes.set(owner, rest)
      if (!first) continue
      this.#working.add(owner)
      void this.#work(owner, first).finally(() => {
        this.#working.delete(owner)
        this.#next()
      })
    }
  }

  /** Never throws: whoever asked hears of it. */
  async #work(owner: string, job: Job): Promise<void> {
    try {
      job.done(await this.#evaluate(owner, job))
    } catch (error) {
      job.fail(error as Error)
    }
  }

  async #evaluate(owner: string, { expressions, input, isYaml }: Job): Promise<Texts> {
    const child = this.#idle.pop() ?? (await this.#start())
    const answering = this.#answerOf(child, this.#bounds.withinMs)
    child.send({ expressions, input, isYaml })
    const { texts = [], fault, stopped } = await answering
    if (stopped && this.#bounds.restMs > 0) this.#resting.set(owner, performance.now() + this.#bounds.restMs)
    if (!stopped) this.#idle.push(child)
    if (fault !== undefined) throw new ExpressionFailed(fault)
    const { mostCharacters } = this.#bounds
    const long = texts.find((text) => text !== null && text.length > mostCharacters)
    if (long)
      throw new ExpressionFailed(
        `made ${long.length.toLocaleString('en')} characters; ${mostCharacters.toLocaleString('en')} at most`,
      )
    return texts
  }

  async #start(): Promise<ChildProcess> {
    if (this.#isClosed) throw new ExpressionFailed('was not begun: the service stops')
    const { resolve } = createRequire(import.meta.url)
    const child = spawn(
      process.execPath,
      [`--max-old-space-size=${memoryMb}`, '-e', program, resolve('jsonata'), resolve('yaml')],
      {
        stdio: ['ignore', 'ignore', 'ignore', 'ipc'],
        env: {},
      },
    )
    // It must not keep this process alive, and ends with it.
    child.unref()
    child.channel?.unref()
    this.#all.add(child)
    // Whoever waits for its answer hears that it has ended.
    child.on('error', () => {})
    child.once('exit', () => {
      this.#all.delete(child)
      const at = this.#idle.indexOf(child)
      if (at >= 0) this.#idle.splice(at, 1)
    })
    const { ready, fault } = await this.#answerOf(child, beginsWithinMs)
    if (!ready) throw new ExpressionFailed(fault ?? 'could not be begun')
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
      const enough = setTimeout(() => {
        child.kill('SIGKILL')
        settle({ fault: `took longer than ${ms / 1_000} seconds, and was stopped`, stopped: true })
      }, ms)
      child.on('message', settle).once('exit', broke).once('error', broke)
    })
  }

  /** Whoever waits hears that nothing comes of it; nothing is begun any more. */
  close(): void {
    this.#isClosed = true
    const waiting = [...this.#lanes.values()].flat()
    this.#lanes.clear()
    for (const { fail } of waiting) fail(new ExpressionFailed('was not begun: the service stops'))
    for (const child of this.#all) child.kill('SIGKILL')
  }
}
