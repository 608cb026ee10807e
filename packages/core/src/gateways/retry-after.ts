/** The longest wait that a gateway can ask for: a day, in milliseconds. More is taken as a day. */
const maxMs = 86_400_000

/**
 * Reads how long to wait: a Retry-After header (RFC 9110 §10.2.3), which holds seconds or a date; or what a gateway says
 * elsewhere, as a number of seconds, a text such as `1.5s`, or a date.
 * @returns milliseconds from now, or `undefined` when there is none that makes sense
 */
export function retryAfterMs(value: unknown, nowMs: number): number | undefined {
  if (typeof value === 'number') return value >= 0 ? Math.min(value * 1_000, maxMs) : undefined
  if (typeof value !== 'string') return undefined
  const [, seconds] = /^(\d{1,9}(?:\.\d{1,9})?)s?$/.exec(value.trim()) ?? []
  if (seconds !== undefined) return Math.min(Number(seconds) * 1_000, maxMs)
  const atMs = Date.parse(value)
  return Number.isNaN(atMs) ? undefined : Math.min(Math.max(atMs - nowMs, 0), maxMs)
}
