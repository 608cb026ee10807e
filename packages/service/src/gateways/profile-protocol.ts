import { explainAnswer, type GatewayAnswer, type Outcome, type ShapedRequest } from '@zbell/core'
import type { Address, PreparedRequest, Sendable } from '../engine/index.ts'
import { NoAnswer, type Transport, unanswered } from '../transport/index.ts'
import { type Authorization, CredentialRejected } from './authorization.ts'
import type { Protocol, Trial } from './kept-client.ts'
import type { ReadyProfile } from './ready-profile.ts'

/** A shaped request with its headers, and the same with the token that counts now. */
type Prepared = {
  readonly shaped: ShapedRequest
  readonly headers: Readonly<Record<string, string>>
  token: string | undefined
  withToken: Readonly<Record<string, string>>
}

/** The way to a gateway that a profile describes. */
export class ProfileProtocol implements Protocol {
  readonly #ready: ReadyProfile
  readonly #authorization: Authorization | undefined
  readonly #transport: Transport
  readonly #identifier: string
  readonly #facts: Readonly<Record<string, string>>

  constructor(given: {
    ready: ReadyProfile
    authorization: Authorization | undefined
    transport: Transport
    identifier: string
    facts?: Readonly<Record<string, string>>
  }) {
    this.#ready = given.ready
    this.#authorization = given.authorization
    this.#transport = given.transport
    this.#identifier = given.identifier
    this.#facts = given.facts ?? {}
  }

  async prepare(notification: Sendable): Promise<PreparedRequest> {
    const { shaped, headers } = await this.#shape(notification)
    const prepared: Prepared = { shaped, headers, token: undefined, withToken: headers }
    return { send: (address) => this.#send(prepared, address) }
  }

  async trial(notification: Sendable, address: Address, send: boolean): Promise<Trial> {
    const { shaped, headers } = await this.#shape(notification)
    const { authentication } = this.#ready.profile
    const [header, scheme] = 'header' in authentication ? [authentication.header, authentication.scheme] : []
    // What is only looked at needs no token; what stands in its place is masked like one.
    const token = send ? await this.#authorization?.value.get() : `${scheme} token`
    const all = header !== undefined && token !== undefined ? { ...headers, [header]: token } : headers
    const [path, body] = [shaped.path(address.token), shaped.body(address.token)]
    const request = { method: shaped.method, url: this.#transport.address + path, headers: all, body }
    const secret = header !== undefined ? { secretHeader: header.toLowerCase() } : {}
    if (!send) return { request, ...secret }
    const answer = await this.#transport.request({
      method: shaped.method,
      path,
      headers: all,
      body,
      reads: 'everything',
    }).answer
    return { request, answer, outcome: await this.#explain(answer), ...secret }
  }

  async #shape(notification: Sendable): Promise<{ shaped: ShapedRequest; headers: Record<string, string> }> {
    const shaped = await this.#ready.shaper.shape({
      notification: notification.id,
      content: notification.content,
      mode: notification.mode,
      urgency: notification.urgency,
      ttlSeconds: notification.ttlSeconds,
      expiresSeconds: Math.floor(notification.expiresAtMs / 1_000),
      identifier: this.#identifier,
      fact: this.#facts,
    })
    return { shaped, headers: { 'content-type': 'application/json', ...shaped.headers } }
  }

  #send(prepared: Prepared, address: Address): Promise<Outcome> {
    const body = prepared.shaped.body(address.token)
    if (Buffer.byteLength(body) > this.#ready.profile.limits.bodyBytes)
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
        token !== undefined && isRejected(outcome) ? this.#askAnew(prepared, address, body, token, outcome) : outcome,
      explainFailure,
    )
  }

  /** A token that ran out early, or a gateway that forgot it: another one settles whether it is the credential. */
  async #askAnew(
    prepared: Prepared,
    address: Address,
    body: string,
    refused: string,
    outcome: Outcome,
  ): Promise<Outcome> {
    try {
      const fresh = await this.#authorization!.anew(refused)
      return fresh === refused ? outcome : await this.#request(prepared, address, body, fresh)
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
    return this.#transport
      .request({
        method: shaped.method,
        path: shaped.path(address.token),
        headers: withToken,
        body,
        reads: this.#ready.readsGoodBodies ? 'everything' : 'refusals',
      })
      .answer.then((answer) => this.#explain(answer))
  }

  #explain(answer: GatewayAnswer): Outcome | Promise<Outcome> {
    return explainAnswer(this.#ready.profile.answers, answer, Date.now(), this.#ready.holds)
  }

  get backoffUntilMs(): number {
    return this.#transport.backoffUntilMs
  }

  async close(): Promise<void> {
    await this.#transport.close()
  }
}

const isRejected = (outcome: Outcome): boolean => outcome.is === 'refused' && outcome.reason === 'credential-rejected'

/** @throws what is no answer of a gateway */
function explainFailure(error: unknown): Outcome {
  if (error instanceof CredentialRejected) return { is: 'refused', reason: 'credential-rejected' }
  if (!(error instanceof NoAnswer)) throw error
  return error.code === 'ADDRESS_NOT_ALLOWED' ? { is: 'refused', reason: 'address-not-allowed' } : unanswered(error)
}
