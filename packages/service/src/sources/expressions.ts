import { type ChildProcess, spawn } from 'node:child_process'
import { createRequire } from 'node:module'
import { SourceFault } from './fault.ts'

/** An expression that takes longer is stopped, whatever it is doing. */
const withinMs = 2_000
/** Nobody waits longer for the process that evaluates to begin. */
const beginsWithinMs = 20_000
/** Its answer, as JSON. */
const mostChars = 8_388_608
const memoryMb = 128
/** Of one source so many wait at most. */
const mostWaiting = 20

/** More of a source waits already than may. */
export class ExpressionsBusy extends Error {
  override readonly name = 'ExpressionsBusy'
}

/** What the process runs: one expression over one text after the other. It has no way out but its answer. */
const program = `
const jsonata = require(process.argv[1])
process.on('disconnect', () => process.exit())
process.on('message', async ({ expression, input }) => {
  let answer
  try {
    const value = await jsonata(expression).evaluate(JSON.parse(input))
    answer = { text: JSON.stringify(value === undefined ? null : value) }
  } catch (error) {
    answer = { fault: String((error && error.message) || error) }
  }
  process.send(answer)
})
process.send({ ready: true })`

type Answer = { readonly ready?: true; readonly text?: string; readonly fault?: string }
type Job = { readonly expression: string; readonly input: string; readonly done: (answer: Promise<unknown>) => void }

/**
 * A process of its own for JSONata that an app’s developer wrote over what strangers sent. An expression, or a pattern in it,
 * that would never end is stopped with it; one that takes all memory ends it, where it would end a thread’s whole process.
 * Sources take turns, so that one whose expression is slow costs each other one of its turns, and not all of them.
 */
export class Expressions {
  #child: ChildProcess | undefined
  /** What waits, by source; whoever is first is next. */
  readonly #lanes = new Map<number, Job[]>()
  #isWorking = false

  /**
   * @param input JSON
   * @param lane the source
   * @throws {SourceFault} in words that go on from the expression’s name
   * @throws {ExpressionsBusy}
   */
  evaluate(expression: string, input: string, lane: number): Promise<unknown> {
    const waiting = this.#lanes.get(lane) ?? []
    if (waiting.length >= mostWaiting)
      return Promise.reject(new ExpressionsBusy(`more than ${mostWaiting} messages wait for its expression`))
    this.#lanes.set(lane, waiting)
    return new Promise((done) => {
      waiting.push({ expression, input, done })
      if (!this.#isWorking) void this.#work()
    })
  }

  /** One after the other, until nothing waits. Never throws: each hears of its own. */
  async #work(): Promise<void> {
    this.#isWorking = true
    for (let next = this.#next(); next; next = this.#next()) {
      const answer = this.#evaluate(next.expression, next.input)
      next.done(answer)
      await answer.catch(() => {}) // Whoever asked hears of it.
    }
    this.#isWorking = false
  }

  /** Of the source that has waited longest; behind the others it waits for its next turn. */
  #next(): Job | undefined {
    for (const [lane, [first, ...rest]] of this.#lanes) {
      this.#lanes.delete(lane)
      if (rest.length > 0) this.#lanes.set(lane, rest)
      return first
    }
    return undefined
  }

  async #evaluate(expression: string, input: string): Promise<unknown> {
    const child = this.#child ?? (await this.#start())
    const answering = this.#answerOf(child, withinMs)
    child.send({ expression, input })
    const { text = 'null', fault } = await answering
    if (fault !== undefined) throw new SourceFault(fault)
    if (text.length > mostChars)
      throw new SourceFault(
        `made ${text.length.toLocaleString('en')} characters; ${mostChars.toLocaleString('en')} at most`,
      )
    return JSON.parse(text) as unknown
  }

  async #start(): Promise<ChildProcess> {
    const jsonata = createRequire(import.meta.url).resolve('jsonata')
    const child = spawn(process.execPath, [`--max-old-space-size=${memoryMb}`, '-e', program, jsonata], {
      stdio: ['ignore', 'ignore', 'ignore', 'ipc'],
      env: {},
    })
    // It must not keep this process alive, and ends with it.
    child.unref()
    child.channel?.unref()
    this.#child = child
    // Whoever waits for its answer hears that it has ended.
    child.on('error', () => {})
    child.once('exit', () => {
      if (this.#child === child) this.#child = undefined
    })
    const { ready, fault } = await this.#answerOf(child, beginsWithinMs)
    if (!ready) throw new SourceFault(fault ?? 'could not be begun')
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
      const broke = () => settle({ fault: 'took more memory than it may have, or broke off' })
      const enough = setTimeout(() => {
        if (this.#child === child) this.#child = undefined
        child.kill('SIGKILL')
        settle({ fault: `took longer than ${ms / 1_000} seconds, and was stopped` })
      }, ms)
      child.on('message', settle).once('exit', broke).once('error', broke)
    })
  }

  close(): void {
    this.#child?.kill('SIGKILL')
    this.#child = undefined
  }
}
