import type { Reason } from '../deliveries/reasons.ts'

/** What a gateway said, as far as it is kept: for an answer that is no good one with the beginning of its text. */
export type Answered = { readonly status: number; readonly says: string }

/** What became of one request to a gateway. `busy` and `unavailable` are worth another try; the rest is final. */
export type Outcome = Result & { readonly answered?: Answered }

type Result =
  | { readonly is: 'accepted'; readonly ref?: string | undefined }
  | { readonly is: 'busy'; readonly retryAfterMs?: number | undefined }
  /** `untried`: the gateway rests, so nobody asked it. */
  | {
      readonly is: 'unavailable'
      readonly retryAfterMs?: number | undefined
      readonly untried?: true
      /** Nothing has ever been heard from there, while others are heard from. */
      readonly silent?: true
    }
  | { readonly is: 'token-gone' }
  | { readonly is: 'refused'; readonly reason: Reason }

/** A gateway's answer, as far as it was read. Header names are lower case. */
export type GatewayAnswer = {
  readonly status: number
  readonly headers: { readonly [name: string]: string | undefined }
  /** At most the first 16 kB. */
  readonly body: string
}

/** Good ones have nothing of their own, and there are a million of them. */
const goodAnswers: readonly Answered[] = Array.from({ length: 100 }, (_, i) => ({ status: 200 + i, says: '' }))

/** So much of a refusal's text is kept, of so much that is looked at. */
const saysAtMost = 200
const looksAt = 2_000

/** What is kept of an answer: in one line, with nothing in it that a terminal or a page would act on. */
export function answeredOf({ status, body }: GatewayAnswer): Answered {
  const good = goodAnswers[status - 200]
  if (good) return good
  const says = body.slice(0, looksAt).replace(/[\p{C}\s]+/gu, ' ')
  return { status, says: says.trim().slice(0, saysAtMost) }
}
