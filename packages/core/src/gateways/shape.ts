import jsonata from 'jsonata'
import type { Content, Mode, Urgency } from '../content/content.ts'
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
}

export type ShapedRequest = {
  readonly method: string
  readonly headers: Readonly<Record<string, string>>
  readonly path: TokenTemplate
  readonly body: TokenTemplate
}

/** Turns messages into requests by one profile. Its expressions are read once. */
export class RequestShaper {
  readonly #profile: GatewayProfile
  readonly #headers: jsonata.Expression
  readonly #body: jsonata.Expression

  /** @throws what JSONata throws for an expression that it cannot read */
  constructor(profile: GatewayProfile) {
    this.#profile = profile
    this.#headers = jsonata(profile.request.headers)
    this.#body = jsonata(profile.request.body)
  }

  /** @throws {TypeError} when the header expression makes no object */
  async shape(message: Message): Promise<ShapedRequest> {
    const input = { ...message, token: tokenMark }
    // JSONata adds properties to the arrays that it makes; a round trip leaves plain JSON.
    const headers: unknown = await this.#headers.evaluate(input)
    const body: unknown = await this.#body.evaluate(input)
    if (typeof headers !== 'object' || headers === null) {
      throw new TypeError(`the header expression of the gateway profile ${this.#profile.profile} makes no object`)
    }
    return {
      method: this.#profile.request.method,
      headers: Object.fromEntries(Object.entries(headers).map(([name, value]) => [name.toLowerCase(), String(value)])),
      path: pathTemplate(this.#profile.request.path, message.identifier),
      body: jsonTemplate(body),
    }
  }
}
