import { afterRequest, askCircuit, type Circuit, closedCircuit, strangeCircuit } from '@zbell/core'
import { type Asking, type Exchange, NoAnswer, neverAsked, type Transport } from './transport.ts'

/** Rests an origin that gives no answers, and lets single requests through to see whether it is back. */
export class CircuitTransport implements Transport {
  readonly #inner: Transport
  readonly #now: () => number
  #circuit: Circuit
  /** The connection that was lost last: all that was on its way with it is one failure, not hundreds. */
  #lost: object | undefined

  /** @param now a clock in ms since 1970 @param isStrange until it answers */
  constructor(inner: Transport, now: () => number = Date.now, isStrange = false) {
    this.#inner = inner
    this.#now = now
    this.#circuit = isStrange ? strangeCircuit : closedCircuit
  }

  get address(): string {
    return this.#inner.address
  }

  get backoffUntilMs(): number {
    return this.#circuit.untilMs
  }

  request(asking: Asking): Exchange {
    const { circuit, waitMs } = askCircuit(this.#circuit, this.#now())
    this.#circuit = circuit
    if (waitMs > 0) return neverAsked(new NoAnswer(this.address, 'RESTING', { backoffMs: waitMs }))
    const exchange = this.#inner.request(asking)
    // Asked for first, so that whoever waits for the answer finds the circuit as it is after it.
    exchange.answer.then(this.#came, this.#failed)
    return exchange
  }

  readonly #came = (): void => {
    this.#circuit = afterRequest(this.#circuit, true, this.#now())
  }

  readonly #failed = (error: NoAnswer): void => {
    const { headCame, connection } = error
    if (headCame || connection === undefined || connection !== this.#lost)
      this.#circuit = afterRequest(this.#circuit, headCame, this.#now())
    if (!headCame && connection !== undefined) this.#lost = connection
  }

  close(): Promise<void> {
    return this.#inner.close()
  }
}
