import { createLocalJWKSet, decodeProtectedHeader, jwtVerify } from 'jose'
import { match } from 'path-to-regexp'
import { z } from 'zod'
import { bellIn, dress, type HandOver, textOfBytes } from './arriving.ts'
import { verdict } from './fault-profile.ts'
import { Gateway, type KnownKey } from './gateway.ts'
import type { GatewayReply, GatewayRequest } from './http2-server.ts'
import type { TokenMint } from './tokens.ts'

const maxBodyBytes = 4_096
const tokenLifeSeconds = 3_600
/** A key's token may change no more often. */
const steadyMs = 1_200_000

/** Their own member is strict; whatever else lies at the root is the app's. */
const ring = z
  .object({
    harbour: z.strictObject({
      quiet: z.boolean().optional(),
      face: z.strictObject({ headline: z.string(), text: z.string().optional() }).optional(),
      place: z.string().optional(),
      dress: dress.optional(),
    }),
  })
  .catchall(z.json())

const head = z.strictObject({
  'harbour-app': z.string().min(1),
  'harbour-weight': z.enum(['lead', 'iron', 'cork']),
  'harbour-until': z.string().regex(/^\d{1,12}$/),
  'harbour-slot': textOfBytes(64).optional(),
})

const no = (status: number, why: string, headers: Record<string, string> = {}): GatewayReply => ({
  status,
  headers: { 'content-type': 'application/json', ...headers },
  body: JSON.stringify({ why }),
})

const ringPath = match<{ token: string }>('/ring/:token')

/** Stands in for the gateway of iOS devices: HTTP/2 over TLS, with ES256 tokens signed by a key that it knows, or a certificate. */
export class IosGateway extends Gateway {
  readonly #keys: KnownKey[]
  readonly #mint: TokenMint
  readonly #handOver: HandOver
  readonly #checked = new Map<string, number>()
  /** By key, when the token came that it uses now. */
  readonly #changed = new Map<string, number>()

  protected override readonly accountCa: string | undefined

  /** @param accountCa certificates under it are as good as a token; PEM */
  constructor(keys: readonly KnownKey[], mint: TokenMint, handOver: HandOver, accountCa?: string) {
    super()
    this.accountCa = accountCa
    this.#keys = [...keys]
    this.#mint = mint
    this.#handOver = handOver
  }

  /** The account got another key; the ones before stay good. */
  learn(key: KnownKey): void {
    this.#keys.push(key)
  }

  async answer(asked: GatewayRequest): Promise<GatewayReply> {
    const named = asked.method === 'POST' && ringPath(asked.path)
    if (!named) return no(404, 'no-such-place')
    const { token } = named.params
    const now = verdict(this.faultProfile, Math.random())
    if (now === 'fail') {
      this.books.failed++
      return no(503, 'adrift')
    }
    const badge =
      now === 'refuse' ? 'unknown' : asked.isCertified ? 'good' : await this.#badge(asked.headers.authorization)
    if (badge === 'unknown') {
      this.books.refused++
      return no(403, 'badge-unknown')
    }
    if (badge === 'too-new') {
      this.books.refused++
      return no(429, 'badge-too-new')
    }
    if (now === 'busy') {
      this.books.busy++
      return no(429, 'swamped', { 'retry-after': String(this.faultProfile.busyForSeconds) })
    }
    if (now === 'gone' || !this.#mint.isLive(decodeURIComponent(token))) {
      this.books.gone++
      return no(410, 'moved-away')
    }
    if (asked.body.length > maxBodyBytes) return no(413, 'too-heavy')
    const theirs = head.safeParse(
      Object.fromEntries(Object.entries(asked.headers).filter(([name]) => name.startsWith('harbour-'))),
    )
    if (!theirs.success) return no(400, `unreadable-head ${theirs.error.issues[0]?.path.join(' ') ?? ''}`.trim())
    const read = ring.safeParse(tryJson(asked.body))
    if (!read.success) return no(400, `unreadable ${read.error.issues[0]?.path.join('/') ?? ''}`.trim())
    const { harbour, ...hold } = read.data
    const slot = theirs.data['harbour-slot']
    this.books.taken++
    this.#handOver(decodeURIComponent(token), {
      ...bellIn(hold),
      mode: harbour.quiet ? 'wake' : 'show',
      urgency: theirs.data['harbour-weight'] === 'lead' ? 'high' : 'normal',
      title: harbour.face?.headline ?? '',
      ...harbour.dress,
      ...(harbour.face?.text === undefined ? {} : { body: harbour.face.text }),
      ...(harbour.place === undefined ? {} : { navigate: harbour.place }),
      ...(slot === undefined ? {} : { tag: slot }),
    })
    return { status: 200, headers: { 'harbour-slip': `i-${this.books.taken.toString(36)}` } }
  }

  /** A token is checked once and then remembered until it ends: that is how the real ones keep up. */
  async #badge(authorization: string | undefined): Promise<'good' | 'unknown' | 'too-new'> {
    const [scheme, token] = authorization?.split(' ') ?? []
    if (scheme !== 'Badge' || !token) return 'unknown'
    const endMs = this.#checked.get(token)
    if (endMs !== undefined) return endMs > Date.now() ? 'good' : 'unknown'
    try {
      const keys = createLocalJWKSet({ keys: this.#keys.map(({ kid, jwk }) => ({ ...jwk, kid, alg: 'ES256' })) })
      const { payload } = await jwtVerify(token, keys, { algorithms: ['ES256'], maxTokenAge: tokenLifeSeconds })
      const { kid = '' } = decodeProtectedHeader(token)
      if (!this.#keys.some((known) => known.kid === kid && known.issuer === payload.iss)) return 'unknown'
      if (this.#checked.has(token)) return 'good'
      if (Date.now() - (this.#changed.get(kid) ?? 0) < steadyMs) return 'too-new'
      this.#changed.set(kid, Date.now())
      this.#checked.set(token, ((payload.iat ?? 0) + tokenLifeSeconds) * 1_000)
      return 'good'
    } catch {
      return 'unknown' // Whatever is wrong with a token, the answer is the same.
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
