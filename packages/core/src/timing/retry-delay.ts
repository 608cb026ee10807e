export type RetryOptions = { readonly firstMs: number; readonly maxMs: number }

const retryDefaults: RetryOptions = { firstMs: 1_000, maxMs: 300_000 }

export const resolveRetry = (given: Partial<RetryOptions> = {}): Readonly<RetryOptions> =>
  Object.freeze({ ...retryDefaults, ...given })

/**
 * How long to wait after a number of failures. At least what the gateway asked for (RFC 9110 §10.2.3), else doubling.
 * @param failures 1 after the first
 * @param unit chance in [0, 1)
 */
export function retryDelayMs(failures: number, options: RetryOptions, unit: number, retryAfterMs = 0): number {
  const ceilingMs = Math.min(options.firstMs * 2 ** (failures - 1), options.maxMs)
  // Half of the delay is jitter: full jitter would let a retry come at once.
  return Math.max(retryAfterMs, Math.round(ceilingMs * (0.5 + unit / 2)))
}
