import { createLocalJWKSet, jwtVerify } from 'jose'
import { match } from 'path-to-regexp'
import { z } from 'zod'
import { dress, type HandOver } from './arriving.ts'
import { Gateway, type KnownKey } from './gateway.ts'
import type { Answered, Asked } from './http2-server.ts'
import { verdict } from './temper.ts'
import type { TokenMint } from './tokens.ts'

const maxBodyBytes = 4_096
const tokenLifeSeconds = 3_600

const ring = z.object({
  ring: z.string(),
  quiet: z.boolean().optional(),
  face: z.object({ headline: z.string(), text: z.string().optional() }).optional(),
  place: z.string().optional(),
  slot: z.string().optional(),
  dress: dress.optional(),
  cargo: z.record(z.string(), z.json()).optional(),
  orders: z.record(z.string(), z.json()).optional(),
})

const no = (status: number, why: string, headers: Record<string, string> = {}): Answered => ({
  status,
  headers: { 'content-type': 'application/json', ...headers },
  body: JSON.stringify({ why }),
})

const ringPath = match<{ token: string }>('/ring/:token')

/** Stands in for the gateway of iOS devices: HTTP/2 over TLS, with ES256 tokens signed by a key that it knows. */
export class IosGateway extends Gateway {
  readonly #keys: KnownKey[]
  readonly #mint: TokenMint
  readonly #handOver: HandOver
  readonly #checked = new Map<string, number>()

  constructor(keys: readonly KnownKey[], mint: TokenMint, handOver: HandOver) {
    super()
    this.#keys = [...keys]
    this.#mint = mint
    this.#handOver = handOver
  }

  /** The account got another key; the ones before stay good. */
  learn(key: KnownKey): void {
    this.#keys.push(key)
  }

  async answer(asked: Asked): Promise<Answered> {
    const named = asked.method === 'POST' && ringPath(asked.path)
    if (!named) return no(404, 'no-such-place')
    const { token } = named.params
    const now = verdict(this.temper, Math.random())
    if (now === 'fail') {
      this.books.failed++
      return no(503, 'adrift')
    }
    if (now === 'refuse' || !(await this.#knows(asked.headers.authorization))) {
      this.books.refused++
      return no(403, 'badge-unknown')
    }
    if (now === 'busy') {
      this.books.busy++
      return no(429, 'swamped', { 'retry-after': String(this.temper.busyForSeconds) })
    }
    if (now === 'gone' || !this.#mint.isLive(decodeURIComponent(token))) {
      this.books.gone++
      return no(410, 'moved-away')
    }
    if (asked.body.length > maxBodyBytes) return no(413, 'too-heavy')
    if (!asked.headers['harbour-app']) return no(400, 'no-app-named')
    const read = ring.safeParse(tryJson(asked.body))
    if (!read.success) return no(400, 'unreadable')
    const { ring: notification, quiet, face, place: navigate, slot, dress, cargo, orders } = read.data
    this.books.taken++
    this.#handOver(decodeURIComponent(token), {
      notification,
      mode: quiet ? 'wake' : 'show',
      urgency: asked.headers['harbour-weight'] === 'lead' ? 'high' : 'normal',
      title: face?.headline ?? '',
      ...dress,
      ...(face?.text === undefined ? {} : { body: face.text }),
      ...(navigate === undefined ? {} : { navigate }),
      ...(slot === undefined ? {} : { tag: slot }),
      ...(cargo === undefined ? {} : { data: cargo as never }),
      ...(orders === undefined ? {} : { commands: orders as never }),
    })
    return { status: 200, headers: { 'harbour-slip': `i-${this.books.taken.toString(36)}` } }
  }

  /** A token is checked once and then remembered until it ends: that is how the real ones keep up. */
  async #knows(authorization: string | undefined): Promise<boolean> {
    const [scheme, token] = authorization?.split(' ') ?? []
    if (scheme !== 'Badge' || !token) return false
    const endMs = this.#checked.get(token)
    if (endMs !== undefined) return endMs > Date.now()
    try {
      const keys = createLocalJWKSet({ keys: this.#keys.map(({ kid, jwk }) => ({ ...jwk, kid, alg: 'ES256' })) })
      const { payload, protectedHeader } = await jwtVerify(token, keys, {
        algorithms: ['ES256'],
        maxTokenAge: tokenLifeSeconds,
      })
      if (!this.#keys.some(({ kid, issuer }) => kid === protectedHeader.kid && issuer === payload.iss)) return false
      this.#checked.set(token, ((payload.iat ?? 0) + tokenLifeSeconds) * 1_000)
      return true
    } catch {
      return false // Whatever is wrong with a token, the answer is the same: unknown.
    }
  }
}

export function tryJson(body: Buffer): unknown {
  try {
    return JSON.parse(body.toString('utf8'))
  } catch {
    return undefined // The schema says what is wrong with nothing.
  }
}
