import type { Outcome } from '@zbell/core'
import type { Address, GatewayClient } from './ports.ts'
import type { GatewayAnswer } from './work.ts'

/** What is kept of gateways' answers. For thousands of devices in a row it is the same, and then one object. */
export class Answers {
  #last: GatewayAnswer | undefined

  /** @returns `undefined` when no gateway said anything */
  of(
    { token }: Pick<Address, 'token'>,
    { answered }: Outcome,
    { via }: Pick<GatewayClient, 'via'>,
  ): GatewayAnswer | undefined {
    if (!answered) return undefined
    const { status, says } = answered
    const { credential } = via
    const gateway = via.gateway ?? originOf(token)
    const last = this.#last
    const same =
      last?.status === status && last.says === says && last.gateway === gateway && last.credential === credential
    if (same) return last
    this.#last = { gateway, credential, status, says }
    return this.#last
  }
}

/** The origin of a browser's endpoint, which was looked at when it registered. */
const originOf = (endpoint: string): string => endpoint.slice(0, endpoint.indexOf('/', 'https://'.length))
