import type { GatewayAnswer } from '@zbell/core'
import type { Asking, Exchange, NoAnswer, Transport } from './transport.ts'

/** A request that goes to the next when the one before gave no answer for a reason that lets it. */
export class AskedInTurn implements Exchange {
  readonly answer: Promise<GatewayAnswer>
  #now: Exchange
  #cancelled = false
  readonly #mayGoOn: (error: NoAnswer) => boolean

  constructor(
    [first, ...others]: readonly Pick<Transport, 'request'>[],
    asking: Asking,
    mayGoOn: (error: NoAnswer) => boolean,
  ) {
    this.#mayGoOn = mayGoOn
    this.#now = first!.request(asking)
    this.answer = this.#orNext(this.#now.answer, others, asking)
  }

  get headCame(): boolean {
    return this.#now.headCame
  }

  cancel(because?: NoAnswer): void {
    this.#cancelled = true
    this.#now.cancel(because)
  }

  #orNext(
    answer: Promise<GatewayAnswer>,
    others: readonly Pick<Transport, 'request'>[],
    asking: Asking,
  ): Promise<GatewayAnswer> {
    return answer.catch((error: NoAnswer) => {
      const [next, ...rest] = others
      if (!next || this.#cancelled || !this.#mayGoOn(error)) throw error
      this.#now = next.request(asking)
      return this.#orNext(this.#now.answer, rest, asking)
    })
  }
}
