import type { Reason } from '../deliveries/reasons.ts'

/** What became of one request to a gateway. `busy` and `unavailable` are worth another try; the rest is final. */
export type Outcome =
  | { readonly is: 'accepted'; readonly ref?: string }
  | { readonly is: 'busy'; readonly retryAfterMs?: number }
  /** `untried`: the gateway rests, so nobody asked it. */
  | { readonly is: 'unavailable'; readonly retryAfterMs?: number; readonly untried?: true }
  | { readonly is: 'token-gone' }
  | { readonly is: 'refused'; readonly reason: Reason }

/** A gateway's answer, as far as it was read. Header names are lower case. */
export type GatewayAnswer = {
  readonly status: number
  readonly headers: { readonly [name: string]: string | undefined }
  /** At most the first 16 kB. */
  readonly body: string
}
