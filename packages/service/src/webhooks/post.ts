import type { ReceiverAnswer } from '@zbell/core/webhooks'
import { Agent, type Dispatcher } from 'undici'
import { type AddressGuard, socketWords } from '../net/index.ts'

/** A receiver has so long to answer, from the first packet to the end of its head. */
export const answerWithinMs = 10_000
/** A connection that nobody uses is kept for so long. */
const idleMs = 5_000
/** So much of an answer is kept, and so much is read so that the connection can be used again. */
const keptBytes = 2_000
const readBytes = 65_536

/** What came back, for the log and for what becomes of the events. */
export type Posted = ReceiverAnswer & {
  readonly durationMs: number
  /** The beginning of the answer. */
  readonly answer: string | null
  /** This process broke it off: that says nothing of the receiver. */
  readonly isBroken?: true
}

type Posting = {
  readonly headers: Readonly<Record<string, string>>
  readonly body: string
}

/** Speaks with one receiver, in whichever version of HTTP it speaks; redirects are not followed. */
export class Receiver {
  readonly #url: URL
  readonly #guard: AddressGuard
  readonly #agent: Agent
  readonly #withinMs: number
  #isClosed = false

  /** @param connections the most at a time */
  constructor(
    url: string,
    {
      guard,
      ca,
      connections,
      withinMs = answerWithinMs,
    }: {
      readonly guard: AddressGuard
      readonly ca: readonly string[]
      readonly connections: number
      readonly withinMs?: number | undefined
    },
  ) {
    this.#url = new URL(url)
    this.#guard = guard
    this.#withinMs = withinMs
    this.#agent = new Agent({
      allowH2: true,
      connections,
      keepAliveTimeout: idleMs,
      keepAliveMaxTimeout: idleMs * 4,
      headersTimeout: withinMs,
      bodyTimeout: withinMs,
      connect: {
        timeout: withinMs,
        ca: [...ca],
        ...(guard.lookup ? { lookup: guard.lookup } : {}),
      },
    })
  }

  /** Never throws for what a receiver does. */
  async post({ headers, body }: Posting): Promise<Posted> {
    const startMs = performance.now()
    const took = () => performance.now() - startMs
    const enough = new AbortController()
    const timer = setTimeout(() => enough.abort(new TookTooLong()), this.#withinMs)
    try {
      this.#guard.check(this.#url)
      const {
        statusCode,
        headers: head,
        body: answer,
      } = await this.#agent.request({
        origin: this.#url.origin,
        path: `${this.#url.pathname}${this.#url.search}`,
        method: 'POST',
        headers,
        body,
        signal: enough.signal,
      })
      const begins = await beginningOf(answer)
      const retryAfter = head['retry-after']
      return {
        is: 'answered',
        status: statusCode,
        retryAfter: Array.isArray(retryAfter) ? retryAfter[0] : retryAfter,
        durationMs: took(),
        answer: begins,
      }
    } catch (error) {
      const silent = { is: 'silent', says: this.#saysOf(error), durationMs: took(), answer: null } as const
      return this.#isClosed ? { ...silent, isBroken: true } : silent
    } finally {
      clearTimeout(timer)
    }
  }

  #saysOf(error: unknown): string {
    const { host } = this.#url
    if (error instanceof TookTooLong) return `did not answer in time at ${host}`
    // What went wrong below a connection stands in the cause.
    const { cause, message } = error as { cause?: unknown; message: string }
    const says = socketWords(error, host) ?? (cause === undefined ? undefined : socketWords(cause, host))
    return says ?? `cannot be reached at ${host}: ${message.slice(0, 120)}`
  }

  /** Breaks off what is on its way. */
  close(): Promise<void> {
    this.#isClosed = true
    return this.#agent.destroy()
  }
}

class TookTooLong extends Error {}

/** What is behind the status decides nothing: an answer without an end, or one that breaks off, is cut. */
async function beginningOf(answer: Dispatcher.ResponseData['body']): Promise<string | null> {
  const parts: Buffer[] = []
  let bytes = 0
  try {
    for await (const some of answer) {
      const part = some as Buffer
      if (bytes < keptBytes) parts.push(part)
      bytes += part.length
      if (bytes > readBytes) break
    }
  } catch {
    // It broke off, or took too long: what has come is what there is.
  }
  const text = Buffer.concat(parts).subarray(0, keptBytes).toString('utf8')
  return text === '' ? null : text
}
