import { explainAnswer, type GatewayProfile, type Outcome, type RequestShaper, type ShapedRequest } from '@zbell/core'
import type { Address, Sendable, Shipment } from '../engine/ports.ts'
import { type Authorization, CredentialRejected } from './authorization.ts'
import { type Http2Origin, NoAnswer } from './http2-origin.ts'
import type { Trial, Way } from './kept-lane.ts'

/** The way to a gateway that a profile describes. */
export class ProfileLane implements Way {
  readonly #profile: GatewayProfile
  readonly #shaper: RequestShaper
  readonly #authorization: Authorization | undefined
  readonly #origin: Http2Origin
  readonly #identifier: string

  constructor(given: {
    profile: GatewayProfile
    shaper: RequestShaper
    authorization: Authorization | undefined
    origin: Http2Origin
    identifier: string
  }) {
    this.#profile = given.profile
    this.#shaper = given.shaper
    this.#authorization = given.authorization
    this.#origin = given.origin
    this.#identifier = given.identifier
  }

  async prepare(notification: Sendable): Promise<Shipment> {
    const { shaped, headers } = await this.#shape(notification)
    return { send: (address) => this.#send(shaped, headers, address) }
  }

  async trial(notification: Sendable, address: Address, send: boolean): Promise<Trial> {
    const { shaped, headers } = await this.#shape(notification)
    const { value, header } = this.#authorization ?? {}
    const all = header && value ? { ...headers, [header]: await value.get() } : headers
    const [path, body] = [shaped.path(address.token), shaped.body(address.token)]
    const request = { method: shaped.method, url: this.#origin.address + path, headers: all, body }
    if (!send) return { request }
    const answer = await this.#origin.request(shaped.method, path, all, body)
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

  async #send(shaped: ShapedRequest, headers: Record<string, string>, address: Address): Promise<Outcome> {
    const body = shaped.body(address.token)
    if (Buffer.byteLength(body) > this.#profile.limits.bodyBytes) return { is: 'refused', reason: 'too-large' }
    try {
      const first = await this.#try(shaped, headers, address, body)
      // A token that ran out early, or a gateway that forgot it: one fresh one settles whether it is the credential.
      return isRejected(first.outcome) && first.drop()
        ? (await this.#try(shaped, headers, address, body)).outcome
        : first.outcome
    } catch (error) {
      if (error instanceof CredentialRejected) return { is: 'refused', reason: 'credential-rejected' }
      if (error instanceof NoAnswer) return { is: 'unavailable' }
      throw error
    }
  }

  async #try(shaped: ShapedRequest, headers: Record<string, string>, address: Address, body: string) {
    const { value, header } = this.#authorization ?? {}
    const authorization = value && (value.atHand ?? (await value.get()))
    const all = header && authorization ? { ...headers, [header]: authorization } : headers
    const answer = await this.#origin.request(shaped.method, shaped.path(address.token), all, body)
    return {
      outcome: explainAnswer(this.#profile.answers, answer, Date.now()),
      /** @returns whether there is a fresh one to try */
      drop: () => {
        if (authorization) value?.drop(authorization)
        return authorization !== undefined
      },
    }
  }

  async close(): Promise<void> {
    await this.#origin.close()
  }
}

const isRejected = (outcome: Outcome): boolean => outcome.is === 'refused' && outcome.reason === 'credential-rejected'
