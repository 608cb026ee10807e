import { createHmac, randomBytes, timingSafeEqual } from 'node:crypto'
import { handsetMark } from '@zbell/core'

/**
 * Device tokens of a stand-in. A token carries a check of itself, so that a million of them need no memory here; only
 * those that are gone are remembered.
 */
export class TokenMint {
  readonly #secret: string
  readonly #gone = new Set<string>()

  constructor(secret: string) {
    this.#secret = secret
  }

  /** @param mark stands in front: what rings this token is a rehearsal */
  mint(mark: '' | typeof handsetMark = ''): string {
    const body = randomBytes(18).toString('base64url')
    return `${mark}${body}${this.#check(body)}`
  }

  isLive(token: string): boolean {
    const bare = token.startsWith(handsetMark) ? token.slice(handsetMark.length) : token
    const body = bare.slice(0, 24)
    const given = Buffer.from(bare.slice(24))
    const wanted = Buffer.from(this.#check(body))
    return given.length === wanted.length && timingSafeEqual(given, wanted) && !this.#gone.has(token)
  }

  retire(token: string): void {
    this.#gone.add(token)
  }

  #check(body: string): string {
    return createHmac('sha256', this.#secret).update(body).digest('base64url').slice(0, 16)
  }
}
