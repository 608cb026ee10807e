import { retryAfterMs } from '../gateways/retry-after.ts'
import { retryDelayMs } from '../timing/retry-delay.ts'

/** Nothing is given up before a receiver has been away for so long. */
export const maxDispatchMs = 3 * 86_400_000
/** The pauses double from the first to the longest; a receiver may ask for more, up to a day. */
const pauses = Object.freeze({ firstMs: 5_000, maxMs: 6 * 3_600_000 })

/** How a receiver answered, or that it did not. */
export type ReceiverAnswer =
  | { readonly is: 'answered'; readonly status: number; readonly retryAfter?: string | undefined }
  | { readonly is: 'silent'; readonly says: string }

export type Telling = {
  /** This one included. */
  readonly attempts: number
  /** When it was to be told first, and now, in ms since the epoch. */
  readonly firstMs: number
  readonly nowMs: number
  /** Chance in [0, 1). */
  readonly unit: number
}

/** What becomes of something that was to be told. */
export type Outcome =
  | { readonly is: 'told' }
  | { readonly is: 'again'; readonly afterMs: number; readonly says: string }
  | { readonly is: 'given-up'; readonly says: string }
  /** The receiver wants nothing more, ever (RFC 9110 §15.5.11). */
  | { readonly is: 'unwanted'; readonly says: string }

/**
 * What an answer means: any 2xx is heard; 410 ends it for good; everything else, a redirect included, is tried again with growing
 * pauses until three days are over. A receiver says by `Retry-After` (RFC 9110 §10.2.3) when at the soonest.
 */
export function outcomeOf(answer: ReceiverAnswer, { attempts, firstMs, nowMs, unit }: Telling): Outcome {
  if (answer.is === 'answered' && answer.status >= 200 && answer.status < 300) return { is: 'told' }
  if (answer.is === 'answered' && answer.status === 410)
    return { is: 'unwanted', says: 'answered 410: wants nothing more' }
  const says = answer.is === 'silent' ? answer.says : saysOf(answer.status)
  const asked = answer.is === 'answered' ? retryAfterMs(answer.retryAfter, nowMs) : undefined
  const afterMs = retryDelayMs(attempts, pauses, unit, asked)
  const leftMs = firstMs + maxDispatchMs - nowMs
  if (leftMs <= 0) return { is: 'given-up', says }
  // The last attempt is made when the three days are over, and not before.
  return { is: 'again', afterMs: Math.min(afterMs, leftMs), says }
}

const saysOf = (status: number): string =>
  status >= 300 && status < 400 ? `answered ${status}: redirects are not followed` : `answered ${status}`
