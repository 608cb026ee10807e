import { type RetryOptions, resolveRetry } from '@zbell/core'
import type { Halt } from './notification.ts'

export type SendBlockOptions = {
  readonly retry: RetryOptions
  /** Outcomes are stored at the latest after so long, so that the running notification can be watched. */
  readonly storeEveryMs: number
  /** This process's clock, in ms since 1970. */
  readonly now: () => number
  readonly chance: () => number
  /** Whether somebody holds the notification back, as far as is known by now, or this process is to stop. */
  readonly pause: () => Halt | 'stopping'
  /** From then on what is on its way to a gateway is not waited for. */
  readonly givenUp: AbortSignal
  /** An internal error, for the log. The devices wait for another try; the rest of the block goes on. */
  readonly onFault: (error: unknown) => void
}

export const sendBlockDefaults: SendBlockOptions = Object.freeze({
  retry: resolveRetry(),
  storeEveryMs: 500,
  now: Date.now,
  chance: Math.random,
  pause: () => 'none',
  givenUp: new AbortController().signal,
  onFault: () => {},
})
