import { randomBytes } from 'node:crypto'
import { createLocalJWKSet, decodeProtectedHeader, jwtVerify } from 'jose'
import { match } from 'path-to-regexp'
import { z } from 'zod'
import { bellIn, dress, type HandOver, textOfBytes } from './arriving.ts'
import { verdict } from './fault-profile.ts'
import { Gateway, type KnownKey } from './gateway.ts'
import type { GatewayReply, GatewayRequest } from './http2-server.ts'
import { tryJson } from './ios-gateway.ts'
import type { TokenMint } from './tokens.ts'

export const androidScope = 'harbour:signal'
const maxBodyBytes = 8_192
const grantedSeconds = 1_800
const maxSeconds = 2_419_200

/** A platform's account: its key, its project, and the devices of its apps. */
export type AndroidAccount = { readonly key: KnownKey; readonly project: string; readonly mint: TokenMint }

/** As particular as gateways are: nothing that it does not know, and data as texts only. */
const signal = z.strictObject({
  berth: z.string().max(4_096),
  vessel: z.string().min(1),
  keepSeconds: z.int().min(0).max(maxSeconds),
  haste: z.enum(['now', 'soon']),
  kind: z.enum(['raise', 'stir']),
  head: z.string().optional(),
  text: z.string().optional(),
  leadsTo: z.string().optional(),
  mast: textOfBytes(64).optional(),
  dress: dress.optional(),
  hold: z.record(z.string().max(64), z.string()).optional(),
})

type Remark = { readonly of: string; readonly code: string; readonly at?: string }

/** Says no in a body of several layers, as gateways do: which remark says why is not always the first. */
const no = (status: number, remark: Remark, wait?: string): GatewayReply => ({
  status,
  headers: { 'content-type': 'application/json' },
  body: JSON.stringify({
    fault: {
      number: status,
      remarks: [{ of: 'guide', page: 'https://harbour.example/signals' }, remark],
      ...(wait === undefined ? {} : { wait }),
    },
  }),
})

const signalsPath = match<{ project: string }>('/projects/:project/signals')

/** Stands in for the gateway of Android devices: HTTP/2 over TLS; access tokens by the RFC 7523 grant, a project in the path. */
export class AndroidGateway extends Gateway {
  readonly #accounts: AndroidAccount[]
  readonly #handOver: HandOver
  readonly #granted = new Map<string, { readonly account: AndroidAccount; readonly endMs: number }>()

  constructor(account: AndroidAccount, handOver: HandOver) {
    super()
    this.#accounts = [account]
    this.#handOver = handOver
  }

  /** Another account signs up. */
  learn(account: AndroidAccount): void {
    this.#accounts.push(account)
  }

  async answer(asked: GatewayRequest): Promise<GatewayReply> {
    if (asked.method === 'POST' && asked.path === '/grants') return this.#grant(asked)
    const named = asked.method === 'POST' && signalsPath(asked.path)
    return named ? this.#signal(asked, named.params.project) : no(404, { of: 'path', code: 'unknown' })
  }

  async #grant(asked: GatewayRequest): Promise<GatewayReply> {
    const form = new URLSearchParams(asked.body.toString('utf8'))
    if (form.get('grant_type') !== 'urn:ietf:params:oauth:grant-type:jwt-bearer')
      return oauthNo('unsupported_grant_type')
    const assertion = form.get('assertion') ?? ''
    let account: AndroidAccount | undefined
    try {
      const { kid } = decodeProtectedHeader(assertion)
      account = this.#accounts.find(({ key }) => key.kid === kid)
      if (!account) return oauthNo('invalid_grant')
      const keys = createLocalJWKSet({ keys: [{ ...account.key.jwk, kid: account.key.kid, alg: 'RS256' }] })
      const { payload } = await jwtVerify(assertion, keys, {
        algorithms: ['RS256'],
        issuer: account.key.issuer,
        audience: `${this.listener.origin}/grants`,
        requiredClaims: ['exp', 'iss'],
      })
      if (payload.scope !== androidScope) return oauthNo('invalid_scope')
    } catch {
      return oauthNo('invalid_grant') // RFC 6749 §5.2 has one word for all that can be wrong with an assertion.
    }
    const token = randomBytes(24).toString('base64url')
    this.#granted.set(token, { account, endMs: Date.now() + grantedSeconds * 1_000 })
    return {
      status: 200,
      headers: { 'content-type': 'application/json', 'cache-control': 'no-store' },
      body: JSON.stringify({ access_token: token, token_type: 'Bearer', expires_in: grantedSeconds }),
    }
  }

  async #signal(asked: GatewayRequest, project: string): Promise<GatewayReply> {
    const now = verdict(this.faultProfile, Math.random())
    if (now === 'fail') {
      this.books.failed++
      return no(503, { of: 'harbour', code: 'fog' })
    }
    const [scheme, token] = asked.headers.authorization?.split(' ') ?? []
    const granted = this.#granted.get(token ?? '')
    if (now === 'refuse' || scheme !== 'Bearer' || !granted || granted.endMs < Date.now()) {
      this.books.refused++
      return no(401, { of: 'leave', code: 'unknown' })
    }
    const { account } = granted
    if (account.project !== project) {
      this.books.refused++
      return no(403, { of: 'project', code: 'not-yours' })
    }
    if (now === 'busy') {
      this.books.busy++
      return no(429, { of: 'harbour', code: 'full' }, `${this.faultProfile.busyForSeconds}s`)
    }
    if (asked.body.length > maxBodyBytes) return no(413, { of: 'signal', code: 'too-heavy' })
    const read = signal.safeParse(tryJson(asked.body))
    if (!read.success)
      return no(400, { of: 'signal', code: 'unreadable', at: read.error.issues[0]?.path.join('/') ?? '' })
    const given = read.data
    if (now === 'gone' || !account.mint.isLive(given.berth)) {
      this.books.gone++
      return no(404, { of: 'berth', code: 'empty' })
    }
    this.books.taken++
    this.#handOver(given.berth, {
      ...bellIn(given.hold),
      mode: given.kind === 'stir' ? 'wake' : 'show',
      urgency: given.haste === 'now' ? 'high' : 'normal',
      title: given.head ?? '',
      ...given.dress,
      ...(given.text === undefined ? {} : { body: given.text }),
      ...(given.leadsTo === undefined ? {} : { navigate: given.leadsTo }),
      ...(given.mast === undefined ? {} : { tag: given.mast }),
    })
    return {
      status: 202,
      headers: { 'content-type': 'application/json' },
      body: JSON.stringify({ signal: `a-${this.books.taken.toString(36)}` }),
    }
  }
}

const oauthNo = (error: string): GatewayReply => ({
  status: 400,
  headers: { 'content-type': 'application/json' },
  body: JSON.stringify({ error }),
})
