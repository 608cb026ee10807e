import { afterRequest, askCircuit, type Circuit, closedCircuit, type GatewayAnswer } from '@zbell/core'
import { type Asking, type Exchange, NoAnswer, neverAsked, type Transport } from './transport.ts'

/** Rests an origin that gives no answers, and lets single requests through to see whether it is back. */
export class CircuitTransport implements Transport {
  readonly #inner: Transport
  readonly #now: () => number
  #circuit: Circuit = closedCircuit
  /** The connection that was lost last: all that was on its way with it is one failure, not hundreds. */
  #lost: object | undefined

  /** @param now a clock in ms since 1970 */
  constructor(inner: Transport, now: () => number = Date.now) {
    this.#inner = inner
    this.#now = now
  }

  get address(): string {
    return this.#inner.address
  }

  get restsUntilMs(): number {
    return this.#circuit.untilMs
  }

  request(asking: Asking): Exchange {
    const { circuit, waitMs } = askCircuit(this.#circuit, this.#now())
    this.#circuit = circuit
    if (waitMs > 0) return neverAsked(new NoAnswer(this.address, 'RESTING', { restMs: waitMs }))
    const inner = this.#inner.request(asking)
    return {
      answer: inner.answer.then(this.#came, this.#failed),
      get headCame() {
        return inner.headCame
      },
      cancel: () => inner.cancel(),
    }
  }

  readonly #came = (answer: GatewayAnswer): GatewayAnswer => {
    this.#circuit = afterRequest(this.#circuit, true, this.#now())
    return answer
  }

  readonly #failed = (error: NoAnswer): never => {
    const { headCame, connection } = error
    if (headCame || connection === undefined || connection !== this.#lost)
      this.#circuit = afterRequest(this.#circuit, headCame, this.#now())
    if (!headCame && connection !== undefined) this.#lost = connection
    throw error
  }

  close(): Promise<void> {
    return this.#inner.close()
  }
}
