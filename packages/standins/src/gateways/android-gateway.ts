import { randomBytes } from 'node:crypto'
import { createLocalJWKSet, jwtVerify } from 'jose'
import { z } from 'zod'
import { dress, type HandOver } from './arriving.ts'
import { Gateway, type KnownKey } from './gateway.ts'
import type { Answered, Asked } from './http2-server.ts'
import { tryJson } from './ios-gateway.ts'
import { verdict } from './temper.ts'
import type { TokenMint } from './tokens.ts'

export const androidScope = 'harbour:signal'
const maxBodyBytes = 8_192
const grantedSeconds = 1_800

const signal = z.object({
  berth: z.string(),
  vessel: z.string(),
  keepSeconds: z.int().min(0),
  signal: z.object({
    id: z.string(),
    haste: z.enum(['now', 'soon']).optional(),
    kind: z.enum(['raise', 'stir']),
    head: z.string().optional(),
    text: z.string().optional(),
    leadsTo: z.string().optional(),
    mast: z.string().optional(),
    dress: dress.optional(),
    hold: z.record(z.string(), z.json()).optional(),
    orders: z.record(z.string(), z.json()).optional(),
  }),
})

const no = (status: number, fault: string, headers: Record<string, string> = {}): Answered => ({
  status,
  headers: { 'content-type': 'application/json', ...headers },
  body: JSON.stringify({ fault: { name: fault } }),
})

/** Stands in for the gateway of Android devices: HTTP/2 over TLS; access tokens by the RFC 7523 grant. */
export class AndroidGateway extends Gateway {
  readonly #keys: readonly KnownKey[]
  readonly #mint: TokenMint
  readonly #handOver: HandOver
  readonly #granted = new Map<string, number>()

  constructor(keys: readonly KnownKey[], mint: TokenMint, handOver: HandOver) {
    super()
    this.#keys = keys
    this.#mint = mint
    this.#handOver = handOver
  }

  async answer(asked: Asked): Promise<Answered> {
    if (asked.method === 'POST' && asked.path === '/grants') return this.#grant(asked)
    if (asked.method === 'POST' && asked.path === '/signals') return this.#signal(asked)
    return no(404, 'no-such-place')
  }

  async #grant(asked: Asked): Promise<Answered> {
    const form = new URLSearchParams(asked.body.toString('utf8'))
    if (form.get('grant_type') !== 'urn:ietf:params:oauth:grant-type:jwt-bearer')
      return oauthNo('unsupported_grant_type')
    try {
      const keys = createLocalJWKSet({ keys: this.#keys.map(({ kid, jwk }) => ({ ...jwk, kid, alg: 'RS256' })) })
      const { payload } = await jwtVerify(form.get('assertion') ?? '', keys, {
        algorithms: ['RS256'],
        audience: `${this.listener.origin}/grants`,
        requiredClaims: ['exp', 'iss'],
      })
      if (payload.scope !== androidScope) return oauthNo('invalid_scope')
    } catch {
      return oauthNo('invalid_grant') // RFC 6749 §5.2 has one word for all that can be wrong with an assertion.
    }
    const token = randomBytes(24).toString('base64url')
    this.#granted.set(token, Date.now() + grantedSeconds * 1_000)
    return {
      status: 200,
      headers: { 'content-type': 'application/json', 'cache-control': 'no-store' },
      body: JSON.stringify({ access_token: token, token_type: 'Bearer', expires_in: grantedSeconds }),
    }
  }

  async #signal(asked: Asked): Promise<Answered> {
    const now = verdict(this.temper, Math.random())
    if (now === 'fail') {
      this.books.failed++
      return no(503, 'fog')
    }
    const [scheme, token] = asked.headers.authorization?.split(' ') ?? []
    if (now === 'refuse' || scheme !== 'Bearer' || (this.#granted.get(token ?? '') ?? 0) < Date.now()) {
      this.books.refused++
      return no(401, 'no-leave')
    }
    if (now === 'busy') {
      this.books.busy++
      return no(429, 'full', { 'retry-after': String(this.temper.busyForSeconds) })
    }
    if (asked.body.length > maxBodyBytes) return no(413, 'too-heavy')
    const read = signal.safeParse(tryJson(asked.body))
    if (!read.success) return no(400, 'unreadable')
    const { berth, signal: given } = read.data
    if (now === 'gone' || !this.#mint.isLive(berth)) {
      this.books.gone++
      return no(404, 'berth-empty')
    }
    this.books.taken++
    this.#handOver(berth, {
      notification: given.id,
      mode: given.kind === 'stir' ? 'wake' : 'show',
      urgency: given.haste === 'now' ? 'high' : 'normal',
      title: given.head ?? '',
      ...given.dress,
      ...(given.text === undefined ? {} : { body: given.text }),
      ...(given.leadsTo === undefined ? {} : { navigate: given.leadsTo }),
      ...(given.mast === undefined ? {} : { tag: given.mast }),
      ...(given.hold === undefined ? {} : { data: given.hold as never }),
      ...(given.orders === undefined ? {} : { commands: given.orders as never }),
    })
    return { status: 202, headers: { 'signal-number': `a-${this.books.taken.toString(36)}` } }
  }
}

const oauthNo = (error: string): Answered => ({
  status: 400,
  headers: { 'content-type': 'application/json' },
  body: JSON.stringify({ error }),
})
