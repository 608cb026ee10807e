import { createRequire } from 'node:module'
import { Worker } from 'node:worker_threads'
import { SourceFault } from './fault.ts'

/** An expression that takes longer is stopped, whatever it is doing. */
const withinMs = 2_000
/** Its answer, as JSON. */
const mostChars = 8_388_608

/** What the thread runs: one expression over one text after the other. It has no way out but its answer. */
const program = `
const { parentPort, workerData } = require('node:worker_threads')
const jsonata = require(workerData)
parentPort.on('message', async ({ expression, input }) => {
  try {
    const value = await jsonata(expression).evaluate(JSON.parse(input))
    parentPort.postMessage({ text: JSON.stringify(value === undefined ? null : value) })
  } catch (error) {
    parentPort.postMessage({ fault: String((error && error.message) || error) })
  }
})`

type Answer = { readonly text?: string; readonly fault?: string }

/**
 * A thread of its own for JSONata that an app’s developer wrote over what strangers sent: an expression, or a pattern in it,
 * that would never end is stopped with its thread, and holds up nothing else.
 */
export class ExpressionThread {
  #worker: Worker | undefined
  #last: Promise<unknown> = Promise.resolve()

  /**
   * @param input JSON
   * @throws {SourceFault} in words that go on from the expression’s name
   */
  evaluate(expression: string, input: string): Promise<unknown> {
    const answer = this.#last.then(() => this.#ask(expression, input))
    this.#last = answer.catch(() => {})
    return answer
  }

  async #ask(expression: string, input: string): Promise<unknown> {
    this.#worker ??= this.#start()
    const worker = this.#worker
    const answer = await new Promise<Answer>((done) => {
      const enough = setTimeout(() => {
        this.#worker = undefined
        void worker.terminate()
        done({ fault: `took longer than ${withinMs / 1_000} seconds, and was stopped` })
      }, withinMs)
      worker.once('message', (one: Answer) => {
        clearTimeout(enough)
        done(one)
      })
      worker.once('error', (error) => {
        clearTimeout(enough)
        this.#worker = undefined
        done({ fault: `broke off: ${error.message}` })
      })
      worker.postMessage({ expression, input })
    })
    worker
      .removeAllListeners('message')
      .removeAllListeners('error')
      .on('error', () => {})
    if (answer.fault !== undefined) throw new SourceFault(answer.fault)
    const { text = 'null' } = answer
    if (text.length > mostChars)
      throw new SourceFault(
        `made ${text.length.toLocaleString('en')} characters; ${mostChars.toLocaleString('en')} at most`,
      )
    return JSON.parse(text) as unknown
  }

  #start(): Worker {
    const worker = new Worker(program, {
      eval: true,
      workerData: createRequire(import.meta.url).resolve('jsonata'),
      env: {},
      resourceLimits: { maxOldGenerationSizeMb: 128, maxYoungGenerationSizeMb: 32 },
    })
    worker.unref()
    return worker
  }

  async close(): Promise<void> {
    const worker = this.#worker
    this.#worker = undefined
    await worker?.terminate()
  }
}
