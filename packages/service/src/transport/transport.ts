import type { LookupFunction } from 'node:net'
import type { GatewayAnswer, Outcome, RecordedExchange } from '@zbell/core'

/** So much of an answer is read. */
export const maxAnswerBytes = 16_384

/** One request as it goes out. */
export type Asking = {
  readonly method: string
  readonly path: string
  readonly headers: Readonly<Record<string, string>>
  readonly body: string | Uint8Array
  /** By default what a good answer says beyond its head is not read. */
  readonly reads?: 'refusals' | 'everything'
}

/** A request that is on its way. */
export type Exchange = {
  /** Rejects with {@link NoAnswer} and with nothing else. */
  readonly answer: Promise<GatewayAnswer>
  /** Whether the head of an answer has come, and only its rest may be missing. */
  readonly headCame: boolean
  /** Nobody waits for it any more. @param because what its answer rejects with, unless it has ended already */
  cancel(because?: NoAnswer): void
}

/**
 * Speaks HTTP with one origin. A wrapper hands on the exchange of what it wraps and looks on: thousands a second are made, and
 * each promise of its own would cost a microsecond.
 * Whatever fills this port is held to `transport-contract.test.ts`.
 */
export type Transport = {
  /** Where it leads, without a slash at its end. */
  readonly address: string
  /** Never throws: a request that cannot go out is answered by a rejection. */
  request(asking: Asking): Exchange
  /** Until when it asks nothing, in ms since 1970; 0 when it asks. */
  readonly backoffUntilMs: number
  /** Lets what is on its way arrive, for as long as one request may take at most. */
  close(): Promise<void>
}

/** Takes down what goes out and comes back, while somebody wants it. */
export type ExchangeRecorder = {
  readonly isOn: boolean
  keep(exchange: RecordedExchange): void
}

export type TransportOptions = {
  readonly ca: readonly string[]
  readonly timeoutMs: number
  readonly lookup?: LookupFunction | undefined
  /** What the connection shows of itself: certificate chain and key, PEM. */
  readonly client?: { readonly cert: string; readonly key: string } | undefined
  /** Whoever has never answered is given up after so long, and rests sooner: anybody may have named it. */
  readonly strangerMs?: number | undefined
  /** The version that is spoken, or whichever the other side prefers; 2 when left out. */
  readonly http?: 2 | 1.1 | 'either' | undefined
  /** What goes out and comes back is taken down there, while it is on. */
  readonly recorder?: ExchangeRecorder | undefined
}

type About = {
  readonly cause?: unknown
  /** The origin rests: it was not asked, and may be in so many ms. */
  readonly backoffMs?: number
  /** The head of an answer came, and its rest did not. */
  readonly headCame?: boolean
  /** What was lost with the connection is lost together. */
  readonly connection?: object | undefined
}

/** The gateway gave no answer. `code` says at which step: the name, TCP, TLS, HTTP/2 or time. */
export class NoAnswer extends Error {
  override readonly name = 'NoAnswer'
  readonly code: string
  readonly backoffMs: number | undefined
  readonly headCame: boolean
  readonly connection: object | undefined

  constructor(origin: string, code: string, { cause, backoffMs, headCame = false, connection }: About = {}) {
    super(`${origin} gave no answer (${code})`, { cause })
    this.code = code
    this.backoffMs = backoffMs
    this.headCame = headCame
    this.connection = connection
  }
}

/** What a request without an answer means for its delivery. */
export const unanswered = ({ backoffMs }: NoAnswer): Outcome =>
  backoffMs === undefined ? { is: 'unavailable' } : { is: 'unavailable', retryAfterMs: backoffMs, untried: true }

/** @returns an exchange that has come to its end already */
export const neverAsked = (error: NoAnswer): Exchange => ({
  answer: Promise.reject(error),
  headCame: false,
  cancel: () => {},
})

/** What went wrong, as the system names it: of the cause, where there is one. */
export function errorCode(error: unknown): string {
  const { code, cause } = error as { code?: unknown; cause?: { code?: unknown } }
  if (typeof cause?.code === 'string') return cause.code
  return typeof code === 'string' ? code : 'UNKNOWN'
}
