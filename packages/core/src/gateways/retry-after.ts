/** The longest wait that a gateway can ask for: a day, in milliseconds. More is taken as a day. */
const longestMs = 86_400_000

/**
 * Reads a Retry-After header (RFC 9110 §10.2.3): seconds, or a date.
 * @returns milliseconds from now, or `undefined` when there is none that makes sense
 */
export function retryAfterMs(value: string | undefined, nowMs: number): number | undefined {
  if (value === undefined) return undefined
  if (/^\d{1,9}$/.test(value)) return Math.min(Number(value) * 1_000, longestMs)
  const atMs = Date.parse(value)
  return Number.isNaN(atMs) ? undefined : Math.min(Math.max(atMs - nowMs, 0), longestMs)
}
