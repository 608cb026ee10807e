import {
  declarativeMessage,
  encryptMessage,
  explainAnswer,
  maxPlaintextBytes,
  type Outcome,
  pushServiceAnswers,
  utf8,
  type VapidKey,
  vapidAuthorization,
  vapidLifetimeSeconds,
} from '@zbell/core'
import { LRUCache } from 'lru-cache'
import { nodeCrypto } from '../base/index.ts'
import type { Address, PreparedRequest, Sendable } from '../engine/index.ts'
import { type AddressGuard, AddressNotAllowed } from '../net/index.ts'
import { NoAnswer, openTransport, type Transport, type TransportOptions, unanswered } from '../transport/index.ts'
import type { Protocol, Trial } from './kept-client.ts'
import { ConcurrencyLimiter } from './limiter.ts'

/** The most push services that one app's devices may name; one that never answered gives way, or the one used longest ago. */
const maxOrigins = 500
/** A push service that has never answered has so many places, and is waited for so long: anybody may have named it. */
const strangersPlaces = 4
const strangerShare = 0.25
/** Silence says something of a push service only while others are heard from. */
const heardWithinMs = 60_000

type PushService = {
  readonly origin: Transport
  readonly limiter: ConcurrencyLimiter
  authorization: string
  renewAtMs: number
}
/** When any push service answered last; of all apps, since all are called by this process. */
let heardAtMs = Number.NEGATIVE_INFINITY

/** The way to the push services of browsers (RFC 8030), each found by its devices' endpoints. */
export class WebPushProtocol implements Protocol {
  readonly #services = new Map<string, PushService>()
  readonly #key: VapidKey
  readonly #subject: string
  readonly #webOrigin: string
  readonly #guard: AddressGuard
  readonly #http: TransportOptions
  readonly #inFlight: number
  /** By how endpoints begin, so that each is read once. */
  readonly #known = new LRUCache<string, ConcurrencyLimiter>({ max: maxOrigins })

  constructor(given: {
    key: VapidKey
    subject: string
    webOrigin: string
    guard: AddressGuard
    http: TransportOptions
    inFlight: number
  }) {
    this.#key = given.key
    this.#subject = given.subject
    this.#webOrigin = given.webOrigin
    this.#guard = given.guard
    this.#http = { ...given.http, http: 'either', strangerMs: given.http.timeoutMs * strangerShare }
    this.#inFlight = given.inFlight
  }

  placesOf({ token }: Pick<Address, 'token'>): ConcurrencyLimiter | undefined {
    const beginning = token.slice(0, token.indexOf('/', 'https://'.length))
    const known = this.#known.get(beginning)
    if (known) return known
    try {
      const { limiter } = this.#service(new URL(token))
      this.#known.set(beginning, limiter)
      return limiter
    } catch (error) {
      if (error instanceof AddressNotAllowed) return undefined
      throw error
    }
  }

  get limiter(): ConcurrencyLimiter[] {
    return [...this.#services.values()].map(({ limiter }) => limiter)
  }

  async prepare(notification: Sendable): Promise<PreparedRequest> {
    const message = declarativeMessage(notification.id, notification.content, notification.mode, this.#webOrigin)
    const plaintext = utf8(JSON.stringify(message))
    return { send: (address) => this.#send(notification, plaintext, address) }
  }

  /** @param address without keys stands for a browser that cannot exist */
  async trial(notification: Sendable, address: Address, send: boolean): Promise<Trial> {
    const message = JSON.stringify(
      declarativeMessage(notification.id, notification.content, notification.mode, this.#webOrigin),
    )
    const endpoint = new URL(address.token)
    const service = this.#service(endpoint)
    const headers = this.#headers(notification, service)
    const request = { method: 'POST', url: endpoint.href, headers, body: message }
    if (!send) return { request }
    const keys = {
      p256dh: address.p256dh ?? nodeCrypto.p256KeyPair().publicKey,
      auth: address.auth ?? nodeCrypto.randomBytes(16),
    }
    const body = encryptMessage(utf8(message), keys, nodeCrypto)
    const answer = await service.origin.request({
      method: 'POST',
      path: endpoint.pathname + endpoint.search,
      headers,
      body,
      reads: 'everything',
    }).answer
    return { request, answer, outcome: explainAnswer(pushServiceAnswers, answer, Date.now()) }
  }

  #headers(notification: Sendable, service: PushService): Record<string, string> {
    const leftSeconds = Math.max(0, Math.floor((notification.expiresAtMs - Date.now()) / 1_000))
    return {
      'content-encoding': 'aes128gcm',
      'content-type': 'application/octet-stream',
      ttl: String(Math.min(leftSeconds, notification.ttlSeconds)),
      urgency: notification.urgency,
      authorization: service.authorization,
      // RFC 8030 §5.4: at most 32 characters of base64url, which is what a tag may hold.
      ...(notification.content.tag === undefined ? {} : { topic: notification.content.tag }),
    }
  }

  async #send(notification: Sendable, plaintext: Uint8Array, address: Address): Promise<Outcome> {
    if (plaintext.length > maxPlaintextBytes) return { is: 'refused', reason: 'too-large' }
    if (!address.p256dh || !address.auth) return { is: 'refused', reason: 'bad-request' }
    let service: PushService | undefined
    try {
      const endpoint = new URL(address.token)
      service = this.#service(endpoint)
      const body = encryptMessage(plaintext, { p256dh: address.p256dh, auth: address.auth }, nodeCrypto)
      const headers = this.#headers(notification, service)
      const answer = await service.origin.request({
        method: 'POST',
        path: endpoint.pathname + endpoint.search,
        headers,
        body,
      }).answer
      heardAtMs = Date.now()
      return explainAnswer(pushServiceAnswers, answer, heardAtMs)
    } catch (error) {
      if (error instanceof AddressNotAllowed) return { is: 'refused', reason: 'address-not-allowed' }
      if (!(error instanceof NoAnswer)) throw error
      if (error.code === 'ADDRESS_NOT_ALLOWED') return { is: 'refused', reason: 'address-not-allowed' }
      const isSilent =
        error.backoffMs === undefined &&
        service?.limiter.hasAnswered === false &&
        heardAtMs > Date.now() - heardWithinMs
      return isSilent ? { is: 'unavailable', silent: true } : unanswered(error)
    }
  }

  #service(endpoint: URL): PushService {
    const nowMs = Date.now()
    const known = this.#services.get(endpoint.origin)
    if (known && known.renewAtMs > nowMs) return known
    this.#guard.check(endpoint)
    const service: PushService = {
      limiter: known?.limiter ?? ConcurrencyLimiter.learning(this.#inFlight, strangersPlaces),
      origin: known?.origin ?? openTransport(endpoint.origin, { ...this.#http, lookup: this.#guard.lookup }),
      authorization: vapidAuthorization(
        endpoint.origin,
        this.#subject,
        Math.floor(nowMs / 1_000) + vapidLifetimeSeconds,
        this.#key,
        nodeCrypto,
      ),
      renewAtMs: nowMs + (vapidLifetimeSeconds / 2) * 1_000,
    }
    this.#services.delete(endpoint.origin)
    this.#services.set(endpoint.origin, service)
    if (this.#services.size > maxOrigins) this.#leaveOne(endpoint.origin)
    return service
  }

  #leaveOne(newest: string): void {
    const others = [...this.#services].filter(([origin]) => origin !== newest)
    const strangers = others.filter(([, { limiter }]) => !limiter.hasAnswered)
    // First those that have been silent already, since another may be about to answer.
    const [origin, left] = strangers.find((one) => one[1].origin.backoffUntilMs > 0) ?? strangers[0] ?? others[0]!
    this.#services.delete(origin)
    for (const [beginning, limiter] of this.#known.entries())
      if (limiter === left.limiter) this.#known.delete(beginning)
    void left.origin.close()
  }

  /** While one of those that are known to be there answers, all is well; each rests for itself. */
  get backoffUntilMs(): number {
    const all = [...this.#services.values()]
    const known = all.filter(({ limiter }) => limiter.hasAnswered)
    const rests = (known.length > 0 ? known : all).map(({ origin }) => origin.backoffUntilMs)
    return rests.length === 0 ? 0 : Math.min(...rests)
  }

  async close(): Promise<void> {
    await Promise.all([...this.#services.values()].map((service) => service.origin.close()))
  }
}
