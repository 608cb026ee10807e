import type { GatewayAnswer } from '@zbell/core'
import { Pool } from 'undici'
import {
  type Asking,
  type Exchange,
  errorCode,
  maxAnswerBytes,
  NoAnswer,
  type Transport,
  type TransportOptions,
} from './transport.ts'

/** A connection carries one request at a time (RFC 9112 §9.3), so there are many; whoever finds none free waits in line. */
export const http1Connections = 64
const idleMs = 60_000

/** Long-lived HTTP/1.1 connections to one origin, for a gateway that does not speak HTTP/2, or need not. */
export class Http1Transport implements Transport {
  readonly address: string
  readonly backoffUntilMs = 0
  readonly #options: TransportOptions
  #pool: Pool | undefined

  constructor(origin: string, options: TransportOptions) {
    this.address = origin
    this.#options = options
  }

  #open(): Pool {
    const { ca, lookup, client, timeoutMs } = this.#options
    this.#pool ??= new Pool(this.address, {
      connections: http1Connections,
      allowH2: false,
      pipelining: 1,
      keepAliveTimeout: idleMs,
      // Whoever wraps this has deadlines of their own; a request that is given up is cancelled.
      headersTimeout: 0,
      bodyTimeout: 0,
      connect: { ca: [...ca], timeout: timeoutMs, ...client, ...(lookup ? { lookup } : {}) },
    })
    return this.#pool
  }

  request(asking: Asking): Exchange {
    const asked = new Http1Exchange(this.address, asking.reads === 'everything')
    try {
      this.#open().dispatch(
        { method: asking.method as 'POST', path: asking.path, headers: asking.headers, body: asking.body },
        asked,
      )
    } catch (error) {
      asked.fail(new NoAnswer(this.address, codeOf(error), { cause: error }))
    }
    return asked
  }

  async close(): Promise<void> {
    const pool = this.#pool
    this.#pool = undefined
    if (!pool) return
    let enough: NodeJS.Timeout | undefined
    const late = new Promise<void>((done) => {
      enough = setTimeout(done, this.#options.timeoutMs)
    })
    // Lets what is on its way arrive.
    await Promise.race([pool.close(), late])
    clearTimeout(enough)
    await pool.destroy()
  }
}

type Controller = { abort(reason: Error): void }

class Http1Exchange implements Exchange {
  readonly answer: Promise<GatewayAnswer>
  readonly #origin: string
  readonly #readsAll: boolean
  #done!: (answer: GatewayAnswer) => void
  #controller: Controller | undefined
  #cancelled: Error | undefined
  fail!: (error: NoAnswer) => void
  #status = 0
  #headers: GatewayAnswer['headers'] = {}
  readonly #chunks: Buffer[] = []
  #bytes = 0

  constructor(origin: string, readsAll: boolean) {
    this.#origin = origin
    this.#readsAll = readsAll
    this.answer = new Promise((done, fail) => {
      this.#done = done
      this.fail = fail
    })
  }

  get headCame(): boolean {
    return this.#status !== 0
  }

  cancel(because?: NoAnswer): void {
    if (because) this.fail(because)
    this.#cancelled = new NoAnswer(this.#origin, 'ECONNRESET')
    this.#controller?.abort(this.#cancelled)
    // One that waits in line for a connection has no controller yet.
    if (!this.#controller) this.fail(new NoAnswer(this.#origin, 'ECONNRESET'))
  }

  onRequestStart(controller: Controller): void {
    this.#controller = controller
    if (this.#cancelled) controller.abort(this.#cancelled)
  }

  onResponseStart(_: unknown, status: number, headers: Record<string, string | string[] | undefined>): void {
    if (status < 200) return
    this.#status = status
    this.#headers = Object.fromEntries(
      Object.entries(headers).map(([name, value]) => [name, Array.isArray(value) ? value.join(', ') : value]),
    )
  }

  onResponseData(_: unknown, chunk: Buffer): void {
    // What a good answer says is not kept; it has to be read, so that the connection can carry the next request.
    if (this.#readsAll || this.#status < 200 || this.#status >= 300) this.#chunks.push(chunk)
    this.#bytes += chunk.length
    if (this.#bytes <= maxAnswerBytes) return
    this.#finish()
    this.#controller?.abort(new NoAnswer(this.#origin, 'TOO_LONG'))
  }

  onResponseEnd(): void {
    this.#finish()
  }

  onResponseError(_: unknown, error: Error): void {
    this.fail(new NoAnswer(this.#origin, codeOf(error), { cause: error, headCame: this.headCame }))
  }

  #finish(): void {
    const body = Buffer.concat(this.#chunks).subarray(0, maxAnswerBytes).toString('utf8')
    this.#done({ status: this.#status, headers: this.#headers, body })
  }
}

/** By undici's own name for a thing, what a socket calls it. */
const known: Readonly<Record<string, string>> = {
  UND_ERR_SOCKET: 'ECONNRESET',
  UND_ERR_CONNECT_TIMEOUT: 'ETIMEDOUT',
  UND_ERR_CLOSED: 'ECONNRESET',
  UND_ERR_DESTROYED: 'ECONNRESET',
}

function codeOf(error: unknown): string {
  const own = errorCode(error)
  return known[own] ?? own
}
