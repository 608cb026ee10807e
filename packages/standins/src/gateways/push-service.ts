import { createHash, randomBytes } from 'node:crypto'
import { fromBase64url, type handsetMark, toBase64url } from '@zbell/core'
import { decodeProtectedHeader, importJWK, jwtVerify } from 'jose'
import { match } from 'path-to-regexp'
import { verdict } from './fault-profile.ts'
import { Gateway } from './gateway.ts'
import type { GatewayReply, GatewayRequest } from './http2-server.ts'

const maxBodyBytes = 4_096
/** What waits for a browser that is away. */
const maxWaiting = 50

type Waiting = { readonly body: Buffer; readonly topic: string | undefined; readonly endsMs: number }
type Subscription = {
  readonly vapidKey: string | undefined
  gone: boolean
  waiting: Waiting[]
  listener: ((body: Buffer) => void) | undefined
}

export type KeptSubscription = { readonly id: string; readonly vapidKey: string | undefined }

const pushPath = match<{ id: string }>('/push/:id')

/** Stands in for the push service of browsers: RFC 8030 with the voluntary identification of RFC 8292. */
export class PushService extends Gateway {
  readonly #subscriptions = new Map<string, Subscription>()
  readonly #checked = new Map<string, number>()
  readonly #onChange: () => void

  /** @param kept subscriptions of an earlier run */
  constructor(kept: readonly KeptSubscription[] = [], onChange: () => void = () => {}) {
    super()
    this.#onChange = onChange
    for (const { id, vapidKey } of kept)
      this.#subscriptions.set(id, { vapidKey, gone: false, waiting: [], listener: undefined })
  }

  get subscriptions(): KeptSubscription[] {
    return [...this.#subscriptions].filter(([, one]) => !one.gone).map(([id, { vapidKey }]) => ({ id, vapidKey }))
  }

  /**
   * @param vapidKey the only sender that may push (RFC 8292 §4), base64url
   * @param mark stands in front of the endpoint's last part: what rings it is a rehearsal
   */
  subscribe(vapidKey?: string, mark: '' | typeof handsetMark = ''): { id: string; endpoint: string } {
    const id = mark + randomBytes(18).toString('base64url')
    this.#subscriptions.set(id, { vapidKey, gone: false, waiting: [], listener: undefined })
    this.#onChange()
    return { id, endpoint: this.endpoint(id) }
  }

  endpoint(id: string): string {
    return `${this.listener.origin}/push/${id}`
  }

  unsubscribe(id: string): void {
    const subscription = this.#subscriptions.get(id)
    if (subscription) subscription.gone = true
    this.#onChange()
  }

  /** The browser is there: what waited comes now, the rest as it arrives. @returns `undefined` for an unknown subscription */
  attach(id: string, listener: (body: Buffer) => void): (() => void) | undefined {
    const subscription = this.#subscriptions.get(id)
    if (!subscription || subscription.gone) return undefined
    subscription.listener = listener
    for (const { body, endsMs } of subscription.waiting.splice(0)) if (endsMs >= Date.now()) listener(body)
    return () => {
      if (subscription.listener === listener) subscription.listener = undefined
    }
  }

  async answer(asked: GatewayRequest): Promise<GatewayReply> {
    const named = asked.method === 'POST' && pushPath(asked.path)
    if (!named) return { status: 404 }
    const { id } = named.params
    const now = verdict(this.faultProfile, Math.random())
    if (now === 'fail') {
      this.books.failed++
      return { status: 503 }
    }
    if (now === 'busy') {
      this.books.busy++
      return { status: 429, headers: { 'retry-after': String(this.faultProfile.busyForSeconds) } }
    }
    // Who asks is looked at before what for: a stranger learns nothing of which subscriptions there are.
    const subscription = this.#subscriptions.get(id)
    if (now === 'refuse' || !(await this.#mayPush(asked.headers.authorization, subscription?.vapidKey))) {
      this.books.refused++
      return { status: 403 }
    }
    if (now === 'gone' || !subscription || subscription.gone) {
      this.books.gone++
      return { status: 410 }
    }
    const ttl = Number(asked.headers.ttl)
    if (asked.headers.ttl === undefined || !Number.isInteger(ttl) || ttl < 0) return { status: 400 }
    if (asked.headers['content-encoding'] !== 'aes128gcm') return { status: 400 }
    if (asked.body.length > maxBodyBytes) return { status: 413 }
    this.books.taken++
    const topic = typeof asked.headers.topic === 'string' ? asked.headers.topic : undefined
    this.#deliver(subscription, { body: asked.body, topic, endsMs: Date.now() + ttl * 1_000 })
    return { status: 201, headers: { location: `/message/${this.books.taken.toString(36)}`, ttl: String(ttl) } }
  }

  #deliver(subscription: Subscription, message: Waiting): void {
    if (subscription.listener) {
      subscription.listener(message.body)
      return
    }
    // RFC 8030 §5.4: a newer message of the same topic takes the place of the one that waits.
    const others = subscription.waiting.filter((one) => message.topic === undefined || one.topic !== message.topic)
    subscription.waiting = [...others, message].slice(-maxWaiting)
  }

  async #mayPush(authorization: string | undefined, wanted: string | undefined): Promise<boolean> {
    const [, token, key] = /^vapid t=([\w.-]+), ?k=([\w-]+)$/.exec(authorization ?? '') ?? []
    if (!token || !key) return wanted === undefined && authorization === undefined
    if (wanted !== undefined && wanted !== key) return false
    const name = createHash('sha256').update(token).update(key).digest('base64')
    const endMs = this.#checked.get(name)
    if (endMs !== undefined) return endMs > Date.now()
    const point = fromBase64url(key)
    if (point?.length !== 65 || decodeProtectedHeader(token).alg !== 'ES256') return false
    try {
      const jwk = { kty: 'EC', crv: 'P-256', x: toBase64url(point.slice(1, 33)), y: toBase64url(point.slice(33)) }
      const { payload } = await jwtVerify(token, await importJWK(jwk, 'ES256'), {
        audience: this.listener.origin,
        requiredClaims: ['exp'],
      })
      const seconds = payload.exp ?? 0
      // RFC 8292 §2: no more than a day ahead.
      if (seconds * 1_000 > Date.now() + 86_400_000) return false
      this.#checked.set(name, seconds * 1_000)
      return true
    } catch {
      return false // Whatever is wrong with a token, RFC 8292 §4.2 has one answer.
    }
  }
}
