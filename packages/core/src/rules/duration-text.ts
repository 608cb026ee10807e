const units: Readonly<Record<string, number>> = {
  ns: 1e-6,
  us: 1e-3,
  µs: 1e-3,
  ms: 1,
  s: 1_000,
  m: 60_000,
  h: 3_600_000,
}
const whole = /^-?(?:\d+(?:\.\d+)?(?:ns|us|µs|ms|s|m|h))+$/
const part = /(\d+(?:\.\d+)?)(ns|us|µs|ms|s|m|h)/g
/** A duration goes as far as 64 bits of nanoseconds do, as the specification’s own tests have it: some 292 years. */
export const maxMs = 9_223_372_036_854

/**
 * A duration as CEL writes it, such as `168h` or `1h30m`.
 * @returns whole milliseconds, or a sentence that says what is wrong
 */
export function durationOfText(text: string): number | string {
  if (!whole.test(text)) return 'wants a duration such as "168h", "90m" or "1h30m"'
  let sum = 0
  for (const [, number, unit] of text.matchAll(part)) sum += Number(number) * units[unit!]!
  if (!Number.isInteger(sum)) return 'wants a duration in whole milliseconds'
  if (sum > maxMs) return 'is longer than 292 years'
  return text.startsWith('-') ? -sum : sum
}

const instant = /^\d{4}-\d{2}-\d{2}T\d{2}:\d{2}:\d{2}(?:\.\d{1,3})?(?:Z|[+-]\d{2}:\d{2})$/
/** The year 1 to the end of 9999, as timestamps go in CEL. */
export const firstMs = -62_135_596_800_000
export const lastMs = 253_402_300_799_999

/** An instant of RFC 3339. @returns ms since the epoch, or a sentence that says what is wrong */
export function instantOfText(text: string): number | string {
  const ms = instant.test(text) ? Date.parse(text) : Number.NaN
  if (Number.isNaN(ms) || ms < firstMs || ms > lastMs)
    return 'wants an instant such as "2026-11-27T18:00:00+01:00", with three digits after the second at most'
  return ms
}
