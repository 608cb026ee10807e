import type { Content, Mode, Urgency } from '../content/content.ts'
import { type Evaluate, evaluator, ProfileAtFault } from './expressions.ts'
import type { GatewayProfile } from './profile.ts'
import { jsonTemplate, pathTemplate, type TokenTemplate, tokenMark } from './token-template.ts'

/** What a gateway's expressions can speak of. */
export type Message = {
  readonly notification: string
  readonly content: Content
  readonly mode: Mode
  readonly urgency: Urgency
  readonly ttlSeconds: number
  /** Seconds since 1970. */
  readonly expiresSeconds: number
  readonly identifier: string
  /** Facts of the account. */
  readonly fact: Readonly<Record<string, string>>
}

export type ShapedRequest = {
  readonly method: string
  readonly headers: Readonly<Record<string, string>>
  readonly path: TokenTemplate
  readonly body: TokenTemplate
}

/** What belongs to the connection and the message's own form (RFC 9110 §7.6.1, RFC 9113 §8.2.2), and to no profile. */
const notForProfiles = new Set([
  'connection',
  'content-length',
  'expect',
  'host',
  'http2-settings',
  'keep-alive',
  'proxy-authorization',
  'proxy-connection',
  'te',
  'trailer',
  'transfer-encoding',
  'upgrade',
])
/** So many, and so long a value; what is more is no header that a gateway asks for. */
const maxHeaders = 40
const maxValueCharacters = 4_000

/** Turns messages into requests by one profile. */
export class RequestShaper {
  readonly #profile: GatewayProfile
  readonly #evaluate: Evaluate

  constructor(profile: GatewayProfile, evaluate: Evaluate = evaluator()) {
    this.#profile = profile
    this.#evaluate = evaluate
  }

  /** @throws {ProfileAtFault} when what the profile makes is no request */
  async shape(message: Message): Promise<ShapedRequest> {
    const { request, authentication } = this.#profile
    const input = { ...message, token: tokenMark }
    const [headers, body] = await this.#evaluate([request.headers, request.body], input)
    if (body === undefined) throw new ProfileAtFault('request.body makes nothing')
    return {
      method: request.method,
      headers: headersOf(headers, 'header' in authentication ? authentication.header.toLowerCase() : undefined),
      path: this.#path(message),
      body: jsonTemplate(body),
    }
  }

  #path({ identifier, fact }: Message): TokenTemplate {
    try {
      return pathTemplate(this.#profile.request.path, identifier, fact)
    } catch (error) {
      throw new ProfileAtFault(`request.path: ${(error as Error).message}`)
    }
  }
}

/** @param ours the header that says who asks @throws {ProfileAtFault} */
function headersOf(json: string | undefined, ours: string | undefined): Record<string, string> {
  const made: unknown = json === undefined ? undefined : JSON.parse(json)
  if (typeof made !== 'object' || made === null || Array.isArray(made))
    throw new ProfileAtFault('request.headers makes no object')
  const all = Object.entries(made).map(([name, value]) => [name.toLowerCase(), headerValue(name, value)] as const)
  if (all.length > maxHeaders) throw new ProfileAtFault(`request.headers makes more than ${maxHeaders} headers`)
  for (const [name] of all) {
    if (!/^[!#$%&'*+.^_`|~0-9a-z-]{1,100}$/.test(name))
      throw new ProfileAtFault(
        `request.headers makes ${JSON.stringify(name.slice(0, 50))}, which is no name of a header`,
      )
    if (name === ours || notForProfiles.has(name))
      throw new ProfileAtFault(`request.headers makes ${name}, which is not the profile’s to set`)
  }
  return Object.fromEntries(all)
}

/** RFC 9110 §5.5: nothing in a value may end it. */
function headerValue(name: string, value: unknown): string {
  if (typeof value === 'object' || typeof value === 'function')
    throw new ProfileAtFault(`request.headers makes no text of ${name.slice(0, 50)}`)
  const text = String(value)
  if (text.length > maxValueCharacters || !/^[\t\x20-\x7e\x80-\xff]*$/.test(text))
    throw new ProfileAtFault(
      `request.headers makes a value of ${name.slice(0, 50)} that no header can have: line breaks, or letters beyond Latin-1`,
    )
  return text
}
