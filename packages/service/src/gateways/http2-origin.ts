import {
  type ClientHttp2Session,
  type ClientHttp2Stream,
  connect,
  constants,
  type IncomingHttpHeaders,
  type IncomingHttpStatusHeader,
  type OutgoingHttpHeaders,
} from 'node:http2'
import type { LookupFunction } from 'node:net'
import { afterRequest, askCircuit, type Circuit, closedCircuit, type GatewayAnswer, type Outcome } from '@zbell/core'

export type OriginOptions = {
  readonly ca: readonly string[]
  readonly timeoutMs: number
  readonly lookup?: LookupFunction | undefined
  /** What the connection shows of itself: certificate chain and key, PEM. */
  readonly client?: { readonly cert: string; readonly key: string } | undefined
}

/** The gateway gave no answer. `code` says at which step: the name, TCP, TLS, HTTP/2 or time. */
export class NoAnswer extends Error {
  override readonly name = 'NoAnswer'
  readonly code: string
  /** The origin rests: it was not asked, and may be in so many ms. */
  readonly restMs: number | undefined

  constructor(origin: string, code: string, cause?: unknown, restMs?: number) {
    super(`${origin} gave no answer (${code})`, { cause })
    this.code = code
    this.restMs = restMs
  }
}

/** What a request without an answer means for its delivery. */
export const unanswered = ({ restMs }: NoAnswer): Outcome =>
  restMs === undefined ? { is: 'unavailable' } : { is: 'unavailable', retryAfterMs: restMs, untried: true }

const maxBodyBytes = 16_384
const { HTTP2_HEADER_STATUS, HTTP2_HEADER_METHOD, HTTP2_HEADER_PATH, NGHTTP2_CANCEL } = constants

/**
 * Long-lived HTTP/2 connections (RFC 9113) to one origin. One is enough: a node:http2 session fills a core long before
 * it runs out of streams. It is opened on first use, and again after the gateway closed it.
 */
export class Http2Origin {
  readonly #origin: string
  readonly #options: OriginOptions
  #session: ClientHttp2Session | undefined
  #circuit: Circuit = closedCircuit
  /** The connection that was lost last: all that was on its way with it is one failure, not hundreds. */
  #lost: ClientHttp2Session | undefined
  readonly #deadlines = new Deadlines()

  constructor(origin: string, options: OriginOptions) {
    this.#origin = origin
    this.#options = options
  }

  /** Where it leads, without a slash at its end. */
  get address(): string {
    return this.#origin
  }

  /** Until when it rests, in ms since 1970; 0 when it does not. */
  get restsUntilMs(): number {
    return this.#circuit.untilMs
  }

  /**
   * @param reads by default what a good answer says beyond its head is not read
   * @returns the answer
   * @throws {NoAnswer}
   */
  request(
    method: string,
    path: string,
    headers: OutgoingHttpHeaders,
    body: string | Uint8Array,
    reads: 'refusals' | 'everything' = 'refusals',
  ): Promise<GatewayAnswer> {
    const asked = askCircuit(this.#circuit, Date.now())
    this.#circuit = asked.circuit
    if (asked.waitMs > 0) return Promise.reject(new NoAnswer(this.#origin, 'RESTING', undefined, asked.waitMs))
    return new Promise((done, fail) => {
      let session: ClientHttp2Session
      let stream: AskedStream
      try {
        session = this.#open()
        stream = session.request({ [HTTP2_HEADER_METHOD]: method, [HTTP2_HEADER_PATH]: path, ...headers })
      } catch (error) {
        this.#ended(false, undefined)
        fail(new NoAnswer(this.#origin, codeOf(error), error))
        return
      }
      const ask: Ask = {
        done,
        fail,
        origin: this.#origin,
        readsAll: reads === 'everything',
        stream,
        dueMs: performance.now() + this.#options.timeoutMs,
        ended: () => {
          this.#deadlines.delete(ask)
          this.#ended(ask.status !== 0, session)
        },
        status: 0,
        headers: noHeaders,
        body: '',
        bytes: 0,
      }
      stream[askedFor] = ask
      // For the whole answer: a stream's own timeout would start anew with every byte that drips in.
      this.#deadlines.add(ask, this.#options.timeoutMs)
      stream.on('response', onResponse)
      stream.on('error', onError)
      stream.on('close', onClose)
      stream.end(body)
    })
  }

  #ended(answered: boolean, session: ClientHttp2Session | undefined): void {
    if (!answered && session?.destroyed) {
      if (this.#lost === session) return
      this.#lost = session
    }
    this.#circuit = afterRequest(this.#circuit, answered, Date.now())
  }

  /** Lets what is on its way arrive, for as long as one request may take at most. */
  async close(): Promise<void> {
    const session = this.#session
    this.#session = undefined
    if (!session || session.destroyed) return
    // A connection that is still being made has nothing on its way that could arrive.
    if (session.connecting) {
      session.destroy()
      return
    }
    await new Promise<void>((done) => {
      const enough = setTimeout(() => session.destroy(), this.#options.timeoutMs)
      session.once('close', () => {
        clearTimeout(enough)
        done()
      })
      if (!session.closed) session.close()
    })
  }

  #open(): ClientHttp2Session {
    if (this.#session && !this.#session.closed && !this.#session.destroyed) return this.#session
    const { ca, lookup, timeoutMs, client } = this.#options
    const session = connect(this.#origin, {
      ca: [...ca],
      ...(lookup ? { lookup } : {}),
      ...client,
      ALPNProtocols: ['h2'],
      settings: { enablePush: false },
    })
    // One that does not get through its handshake in time takes its requests with it.
    const handshake = setTimeout(() => session.destroy(new NoAnswer(this.#origin, 'ETIMEDOUT')), timeoutMs)
    session.once('connect', () => clearTimeout(handshake))
    const leave = () => {
      clearTimeout(handshake)
      if (this.#session === session) this.#session = undefined
    }
    session.once('goaway', () => {
      leave()
      session.close()
    })
    session.once('close', leave)
    // Its streams report the failure, each to whoever waits for it; here it only must not go unheard.
    session.on('error', leave)
    session.unref()
    this.#session = session
    return session
  }
}

/** Where a stream carries what it was opened for: its listeners are the same functions for all, since thousands a second are made. */
const askedFor = Symbol('asked for')
type AskedStream = ClientHttp2Stream & { [askedFor]?: Ask }

type Ask = {
  readonly done: (answer: GatewayAnswer) => void
  readonly fail: (error: NoAnswer) => void
  readonly ended: () => void
  readonly origin: string
  readonly readsAll: boolean
  readonly stream: ClientHttp2Stream
  readonly dueMs: number
  /** 0 while there is no answer. */
  status: number
  headers: GatewayAnswer['headers']
  body: string
  bytes: number
}

const noHeaders: GatewayAnswer['headers'] = {}

function onResponse(this: AskedStream, head: IncomingHttpHeaders & IncomingHttpStatusHeader): void {
  const ask = this[askedFor]!
  ask.status = Number(head[HTTP2_HEADER_STATUS])
  ask.headers = head as GatewayAnswer['headers']
  if (!ask.readsAll && ask.status >= 200 && ask.status < 300) this.resume()
  else this.on('data', onData)
}

function onData(this: AskedStream, chunk: Buffer): void {
  const ask = this[askedFor]!
  ask.bytes += chunk.length
  if (ask.bytes > maxBodyBytes) this.close(NGHTTP2_CANCEL)
  else ask.body += chunk.toString('utf8')
}

function onError(this: AskedStream, error: Error): void {
  const ask = this[askedFor]!
  ask.fail(new NoAnswer(ask.origin, codeOf(error), error))
}

function onClose(this: AskedStream): void {
  const { ended, done, fail, status, headers, body, origin } = this[askedFor]!
  ended()
  if (status !== 0) done({ status, headers, body })
  else fail(new NoAnswer(origin, 'ECONNRESET'))
}

/** How exactly a deadline is kept, of the whole time. */
const sweepsInTime = 20

/**
 * Deadlines of many requests with one timer. All have the same patience, so the oldest are due first: a timer for each would
 * cost more than it is worth.
 */
class Deadlines {
  readonly #asks = new Set<Ask>()
  #timer: NodeJS.Timeout | undefined

  add(ask: Ask, timeoutMs: number): void {
    this.#asks.add(ask)
    this.#timer ??= setInterval(() => this.#sweep(), Math.max(10, timeoutMs / sweepsInTime)).unref()
  }

  delete(ask: Ask): void {
    this.#asks.delete(ask)
  }

  #sweep(): void {
    const nowMs = performance.now()
    for (const ask of this.#asks) {
      if (ask.dueMs > nowMs) return
      this.#asks.delete(ask)
      ask.fail(new NoAnswer(ask.origin, 'ETIMEDOUT'))
      ask.stream.close(NGHTTP2_CANCEL)
    }
    clearInterval(this.#timer)
    this.#timer = undefined
  }
}

const codeOf = (error: unknown): string => {
  const { code, cause } = error as { code?: unknown; cause?: { code?: unknown } }
  if (typeof cause?.code === 'string') return cause.code
  return typeof code === 'string' ? code : 'UNKNOWN'
}
