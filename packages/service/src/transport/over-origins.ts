import { connectionStep } from '@zbell/core'
import { AskedInTurn } from './in-turn.ts'
import type { Asking, Exchange, NoAnswer, Transport } from './transport.ts'

/** Nothing of a request went out when a connection failed at one of these. */
const neverOut = new Set(['name', 'tcp', 'tls'])

/**
 * Asks the first of several origins that does not rest. When a request cannot have gone out at all, the next one is asked at
 * once; what may have arrived is not sent twice.
 */
export class OriginsTransport implements Transport {
  readonly #origins: readonly Transport[]

  /** @param origins one at least, each with deadlines and a circuit of its own */
  constructor(origins: readonly Transport[]) {
    this.#origins = origins
  }

  get address(): string {
    return this.#first.address
  }

  /** The earliest of all: as soon as one can be asked, this can. */
  get backoffUntilMs(): number {
    return Math.min(...this.#origins.map(({ backoffUntilMs }) => backoffUntilMs))
  }

  get #first(): Transport {
    const nowMs = Date.now()
    return this.#origins.find(({ backoffUntilMs }) => backoffUntilMs <= nowMs) ?? this.#origins[0]!
  }

  request(asking: Asking): Exchange {
    const first = this.#first
    return new AskedInTurn([first, ...this.#origins.filter((one) => one !== first)], asking, wasNeverOut)
  }

  async close(): Promise<void> {
    await Promise.all(this.#origins.map((one) => one.close()))
  }
}

const wasNeverOut = ({ code, backoffMs, headCame }: NoAnswer): boolean =>
  !headCame && (backoffMs !== undefined || neverOut.has(connectionStep(code)))
