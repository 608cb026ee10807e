import {
  type ClientHttp2Session,
  type ClientHttp2Stream,
  connect,
  constants,
  type IncomingHttpHeaders,
  type IncomingHttpStatusHeader,
} from 'node:http2'
import type { GatewayAnswer } from '@zbell/core'
import {
  type Asking,
  type Exchange,
  errorCode,
  maxAnswerBytes,
  NoAnswer,
  neverAsked,
  type Transport,
  type TransportOptions,
} from './transport.ts'

const { HTTP2_HEADER_STATUS, HTTP2_HEADER_METHOD, HTTP2_HEADER_PATH, NGHTTP2_CANCEL } = constants

/** The other side speaks no HTTP/2. */
export const noHttp2 = 'NO_HTTP2'

/**
 * A long-lived HTTP/2 connection (RFC 9113) to one origin. One is enough: a node:http2 session fills a core long before
 * it runs out of streams. It is opened on first use, and again after the gateway closed it.
 */
export class Http2Transport implements Transport {
  readonly address: string
  readonly backoffUntilMs = 0
  readonly #options: TransportOptions
  #session: ClientHttp2Session | undefined
  #isSpoken = false

  constructor(origin: string, options: TransportOptions) {
    this.address = origin
    this.#options = options
  }

  /** Whether the other side agreed to HTTP/2 when it was last connected to. */
  get isSpoken(): boolean {
    return this.#isSpoken
  }

  request({ method, path, headers, body, reads }: Asking): Exchange {
    let session: ClientHttp2Session
    let stream: AskedStream
    try {
      session = this.#open()
      stream = session.request({ [HTTP2_HEADER_METHOD]: method, [HTTP2_HEADER_PATH]: path, ...headers })
    } catch (error) {
      return neverAsked(new NoAnswer(this.address, errorCode(error), { cause: error }))
    }
    const asked = new Http2Exchange(this.address, session, stream, reads === 'everything')
    stream[askedFor] = asked
    stream.on('response', onResponse)
    stream.on('error', onError)
    stream.on('close', onClose)
    stream.end(body)
    return asked
  }

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
    const { ca, lookup, timeoutMs, strangerMs = timeoutMs, client } = this.#options
    this.#isSpoken = false
    const session = connect(this.address, {
      ca: [...ca],
      ...(lookup ? { lookup } : {}),
      ...client,
      ALPNProtocols: ['h2'],
      settings: { enablePush: false },
    })
    // One that does not get through its handshake in time takes its requests with it.
    const handshake = setTimeout(
      () => session.destroy(new NoAnswer(this.address, 'ETIMEDOUT')),
      Math.min(timeoutMs, strangerMs),
    )
    session.once('connect', () => {
      clearTimeout(handshake)
      // A server that knows no negotiation goes on in HTTP/1.1, which nobody here could read.
      if (session.alpnProtocol === 'h2' || session.alpnProtocol === 'h2c') this.#isSpoken = true
      else session.destroy(new NoAnswer(this.address, noHttp2))
    })
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
type AskedStream = ClientHttp2Stream & { [askedFor]?: Http2Exchange }

const noHeaders: GatewayAnswer['headers'] = {}

class Http2Exchange implements Exchange {
  readonly answer: Promise<GatewayAnswer>
  readonly origin: string
  readonly session: ClientHttp2Session
  readonly stream: ClientHttp2Stream
  readonly readsAll: boolean
  done!: (answer: GatewayAnswer) => void
  fail!: (error: NoAnswer) => void
  /** 0 while there is no answer. */
  status = 0
  headers = noHeaders
  body = ''
  bytes = 0

  constructor(origin: string, session: ClientHttp2Session, stream: ClientHttp2Stream, readsAll: boolean) {
    this.origin = origin
    this.session = session
    this.stream = stream
    this.readsAll = readsAll
    this.answer = new Promise((done, fail) => {
      this.done = done
      this.fail = fail
    })
  }

  get headCame(): boolean {
    return this.status !== 0
  }

  cancel(because?: NoAnswer): void {
    if (because) this.fail(because)
    this.stream.close(NGHTTP2_CANCEL)
  }

  lost(code: string, cause?: unknown): NoAnswer {
    const { origin, headCame, session } = this
    return new NoAnswer(origin, code, { cause, headCame, connection: session.destroyed ? session : undefined })
  }
}

function onResponse(this: AskedStream, head: IncomingHttpHeaders & IncomingHttpStatusHeader): void {
  const asked = this[askedFor]!
  asked.status = Number(head[HTTP2_HEADER_STATUS])
  asked.headers = head as GatewayAnswer['headers']
  if (!asked.readsAll && asked.status >= 200 && asked.status < 300) this.resume()
  else this.on('data', onData)
}

function onData(this: AskedStream, chunk: Buffer): void {
  const asked = this[askedFor]!
  asked.bytes += chunk.length
  if (asked.bytes > maxAnswerBytes) this.close(NGHTTP2_CANCEL)
  else asked.body += chunk.toString('utf8')
}

function onError(this: AskedStream, error: Error): void {
  const asked = this[askedFor]!
  asked.fail(asked.lost(errorCode(error), error))
}

function onClose(this: AskedStream): void {
  const asked = this[askedFor]!
  const { done, fail, status, headers, body } = asked
  if (status !== 0) done({ status, headers, body })
  else fail(asked.lost('ECONNRESET'))
}
