import { explainAnswer, type GatewayProfile, type Outcome, type RequestShaper, type ShapedRequest } from '@zbell/core'
import type { Address, PreparedRequest, Sendable } from '../engine/ports.ts'
import { type Authorization, CredentialRejected } from './authorization.ts'
import type { Protocol, Trial } from './kept-lane.ts'
import { NoAnswer, type Transport, unanswered } from './transport/transport.ts'

/** A shaped request with its headers, and the same with the token that counts now. */
type Prepared = {
  readonly shaped: ShapedRequest
  readonly headers: Readonly<Record<string, string>>
  token: string | undefined
  withToken: Readonly<Record<string, string>>
}

/** The way to a gateway that a profile describes. */
export class ProfileProtocol implements Protocol {
  readonly #profile: GatewayProfile
  readonly #shaper: RequestShaper
  readonly #authorization: Authorization | undefined
  readonly #origin: Transport
  readonly #identifier: string

  constructor(given: {
    profile: GatewayProfile
    shaper: RequestShaper
    authorization: Authorization | undefined
    origin: Transport
    identifier: string
  }) {
    this.#profile = given.profile
    this.#shaper = given.shaper
    this.#authorization = given.authorization
    this.#origin = given.origin
    this.#identifier = given.identifier
  }

  async prepare(notification: Sendable): Promise<PreparedRequest> {
    const { shaped, headers } = await this.#shape(notification)
    const prepared: Prepared = { shaped, headers, token: undefined, withToken: headers }
    return { send: (address) => this.#send(prepared, address) }
  }

  async trial(notification: Sendable, address: Address, send: boolean): Promise<Trial> {
    const { shaped, headers } = await this.#shape(notification)
    const { value, header } = this.#authorization ?? {}
    const all = header && value ? { ...headers, [header]: await value.get() } : headers
    const [path, body] = [shaped.path(address.token), shaped.body(address.token)]
    const request = { method: shaped.method, url: this.#origin.address + path, headers: all, body }
    if (!send) return { request }
    const answer = await this.#origin.request({ method: shaped.method, path, headers: all, body, reads: 'everything' })
      .answer
    return { request, answer, outcome: explainAnswer(this.#profile.answers, answer, Date.now()) }
  }

  async #shape(notification: Sendable): Promise<{ shaped: ShapedRequest; headers: Record<string, string> }> {
    const shaped = await this.#shaper.shape({
      notification: notification.id,
      content: notification.content,
      mode: notification.mode,
      urgency: notification.urgency,
      ttlSeconds: notification.ttlSeconds,
      expiresSeconds: Math.floor(notification.expiresAtMs / 1_000),
      identifier: this.#identifier,
    })
    return { shaped, headers: { 'content-type': 'application/json', ...shaped.headers } }
  }

  #send(prepared: Prepared, address: Address): Promise<Outcome> {
    const body = prepared.shaped.body(address.token)
    if (Buffer.byteLength(body) > this.#profile.limits.bodyBytes)
      return Promise.resolve({ is: 'refused', reason: 'too-large' })
    const value = this.#authorization?.value
    const token = value?.atHand
    // The usual way waits for nothing but the answer.
    if (value && token === undefined)
      return value.get().then((fresh) => this.#ask(prepared, address, body, fresh), explainFailure)
    return this.#ask(prepared, address, body, token)
  }

  #ask(prepared: Prepared, address: Address, body: string, token: string | undefined): Promise<Outcome> {
    return this.#request(prepared, address, body, token).then(
      (outcome) =>
        token !== undefined && isRejected(outcome) ? this.#askAnew(prepared, address, body, token) : outcome,
      explainFailure,
    )
  }

  /** A token that ran out early, or a gateway that forgot it: one fresh one settles whether it is the credential. */
  async #askAnew(prepared: Prepared, address: Address, body: string, refused: string): Promise<Outcome> {
    const { value } = this.#authorization!
    value.drop(refused)
    try {
      return await this.#request(prepared, address, body, await value.get())
    } catch (error) {
      return explainFailure(error)
    }
  }

  /** @throws {NoAnswer} */
  #request(prepared: Prepared, address: Address, body: string, token: string | undefined): Promise<Outcome> {
    const header = this.#authorization?.header
    if (header && token !== undefined && prepared.token !== token) {
      // The same for thousands of requests, so it is put together once.
      prepared.token = token
      prepared.withToken = { ...prepared.headers, [header]: token }
    }
    const { shaped, withToken } = prepared
    return this.#origin
      .request({ method: shaped.method, path: shaped.path(address.token), headers: withToken, body })
      .answer.then((answer) => explainAnswer(this.#profile.answers, answer, Date.now()))
  }

  get restsUntilMs(): number {
    return this.#origin.restsUntilMs
  }

  async close(): Promise<void> {
    await this.#origin.close()
  }
}

const isRejected = (outcome: Outcome): boolean => outcome.is === 'refused' && outcome.reason === 'credential-rejected'

/** @throws what is no answer of a gateway */
function explainFailure(error: unknown): Outcome {
  if (error instanceof CredentialRejected) return { is: 'refused', reason: 'credential-rejected' }
  if (error instanceof NoAnswer) return unanswered(error)
  throw error
}
