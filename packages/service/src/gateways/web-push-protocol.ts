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
import type { Address, PreparedRequest, Sendable } from '../engine/ports.ts'
import { type AddressGuard, AddressNotAllowed } from './address-guard.ts'
import type { Protocol, Trial } from './kept-lane.ts'
import { nodeCrypto } from './node-crypto.ts'
import { openTransport } from './transport/open-transport.ts'
import { NoAnswer, type Transport, type TransportOptions, unanswered } from './transport/transport.ts'

/** The most push services that one app's devices may name; the one used longest ago gives way. */
const maxOrigins = 64

type PushService = { readonly origin: Transport; authorization: string; renewAtMs: number }

/** The way to the push services of browsers (RFC 8030), each found by its devices' endpoints. */
export class WebPushProtocol implements Protocol {
  readonly #services = new Map<string, PushService>()
  readonly #key: VapidKey
  readonly #subject: string
  readonly #webOrigin: string
  readonly #guard: AddressGuard
  readonly #http: TransportOptions

  constructor(given: {
    key: VapidKey
    subject: string
    webOrigin: string
    guard: AddressGuard
    http: TransportOptions
  }) {
    this.#key = given.key
    this.#subject = given.subject
    this.#webOrigin = given.webOrigin
    this.#guard = given.guard
    this.#http = given.http
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
    try {
      const endpoint = new URL(address.token)
      const service = this.#service(endpoint)
      const body = encryptMessage(plaintext, { p256dh: address.p256dh, auth: address.auth }, nodeCrypto)
      const headers = this.#headers(notification, service)
      const answer = await service.origin.request({
        method: 'POST',
        path: endpoint.pathname + endpoint.search,
        headers,
        body,
      }).answer
      return explainAnswer(pushServiceAnswers, answer, Date.now())
    } catch (error) {
      if (error instanceof AddressNotAllowed) return { is: 'refused', reason: 'address-not-allowed' }
      if (!(error instanceof NoAnswer)) throw error
      return error.code === 'ADDRESS_NOT_ALLOWED' ? { is: 'refused', reason: 'address-not-allowed' } : unanswered(error)
    }
  }

  #service(endpoint: URL): PushService {
    const nowMs = Date.now()
    const known = this.#services.get(endpoint.origin)
    if (known && known.renewAtMs > nowMs) return known
    this.#guard.check(endpoint)
    const service: PushService = {
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
    if (this.#services.size > maxOrigins) {
      const [oldest, left] = this.#services.entries().next().value!
      this.#services.delete(oldest)
      void left.origin.close()
    }
    return service
  }

  get restsUntilMs(): number {
    return Math.max(0, ...[...this.#services.values()].map(({ origin }) => origin.restsUntilMs))
  }

  async close(): Promise<void> {
    await Promise.all([...this.#services.values()].map((service) => service.origin.close()))
  }
}
