/** A wall clock's reading, without a zone: `2026-11-23T07:30`, seconds optional (RFC 3339 without its offset). */
export type LocalTime = string

type Fields = { year: number; month: number; day: number; hour: number; minute: number; second: number }

const form = /^(\d{4})-(\d{2})-(\d{2})T(\d{2}):(\d{2})(?::(\d{2}))?$/

export function localFields(text: LocalTime): Fields | undefined {
  const [, year, month, day, hour, minute, second = '0'] = form.exec(text) ?? []
  if (year === undefined) return undefined
  const fields = { year: +year, month: +month!, day: +day!, hour: +hour!, minute: +minute!, second: +second }
  // A date that is not in the calendar comes back as another one.
  const same = new Date(utcOf(fields)).toISOString().slice(0, 19)
  return same === `${year}-${month}-${day}T${hour}:${minute}:${second.padStart(2, '0')}` ? fields : undefined
}

const utcOf = ({ year, month, day, hour, minute, second }: Fields): number =>
  Date.UTC(year, month - 1, day, hour, minute, second)

const formats = new Map<string, Intl.DateTimeFormat>()

function formatFor(zone: string): Intl.DateTimeFormat {
  let format = formats.get(zone)
  if (!format) {
    const all = {
      year: 'numeric',
      month: 'numeric',
      day: 'numeric',
      hour: 'numeric',
      minute: 'numeric',
      second: 'numeric',
    } as const
    format = new Intl.DateTimeFormat('en-US', { timeZone: zone, hourCycle: 'h23', calendar: 'gregory', ...all })
    formats.set(zone, format)
  }
  return format
}

const dayMs = 86_400_000
/** 0001-01-01: before it `Intl` counts years in another era. */
const firstMs = -62_135_596_800_000
/** No zone has changed its clocks twice within so long; Recife did after seven days, in October 2000. */
const blockMs = 6 * dayMs

/** A stretch of time in which the clocks of a zone are changed once at most. */
type Block = {
  readonly offsetMs: number
  /** When they are changed; the end of the block where they are not. */
  readonly changedAtMs: number
  readonly offsetAfterMs: number
}

/** Of each zone, by number: to ask `Intl` takes 20 µs. */
const blocks = new Map<string, Map<number, Block>>()
const maxKept = { zones: 100, blocks: 10_000 }

function blockOf(ms: number, zone: string): Block {
  const no = Math.floor(ms / blockMs)
  let ofZone = blocks.get(zone)
  if (!ofZone || ofZone.size >= maxKept.blocks) {
    if (blocks.size >= maxKept.zones) blocks.clear()
    ofZone = new Map()
    blocks.set(zone, ofZone)
  }
  const known = ofZone.get(no)
  if (known) return known
  const block = askedBlock(no * blockMs, zone)
  ofZone.set(no, block)
  return block
}

function askedBlock(startMs: number, zone: string): Block {
  const offsetOf = (ms: number): number => utcOf(askedAt(ms, zone)) - ms
  const offsetMs = offsetOf(startMs)
  const endMs = startMs + blockMs
  const offsetAfterMs = offsetOf(endMs)
  if (offsetMs === offsetAfterMs) return { offsetMs, changedAtMs: endMs, offsetAfterMs }
  let [before, after] = [startMs / 1_000, endMs / 1_000]
  while (after - before > 1) {
    const middle = Math.floor((before + after) / 2)
    if (offsetOf(middle * 1_000) === offsetMs) before = middle
    else after = middle
  }
  return { offsetMs, changedAtMs: after * 1_000, offsetAfterMs }
}

/**
 * Until when the clocks of a zone are known not to be changed: some days ahead, or when they are.
 * @throws {RangeError} for what is no IANA zone
 */
export function steadyUntil(ms: number, zone: string): number {
  const { changedAtMs } = blockOf(ms, zone)
  return ms < changedAtMs ? changedAtMs : (Math.floor(ms / blockMs) + 1) * blockMs
}

/** What a clock in a zone shows at an instant. @throws {RangeError} for what is no IANA zone */
export function localAt(ms: number, zone: string): Fields {
  if (ms < firstMs) return askedAt(ms, zone)
  const { offsetMs, changedAtMs, offsetAfterMs } = blockOf(ms, zone)
  const at = new Date(ms + (ms < changedAtMs ? offsetMs : offsetAfterMs))
  return {
    year: at.getUTCFullYear(),
    month: at.getUTCMonth() + 1,
    day: at.getUTCDate(),
    hour: at.getUTCHours(),
    minute: at.getUTCMinutes(),
    second: at.getUTCSeconds(),
  }
}

function askedAt(ms: number, zone: string): Fields {
  const parts = Object.fromEntries(
    formatFor(zone)
      .formatToParts(ms)
      .map(({ type, value }) => [type, Number(value)]),
  )
  const { year, month, day, hour, minute, second } = parts as Record<keyof Fields, number>
  return { year, month, day, hour, minute, second }
}

/**
 * The instant at which a clock in a zone shows a local time. Where clocks are put back it is the first of the two; where
 * they are put forward over it, it is as long after the gap as it would have been into it (RFC 5545 §3.3.5).
 * @throws {RangeError} for what is no local time or no IANA zone
 */
export function instantOf(local: LocalTime | Fields, zone: string): number {
  const fields = typeof local === 'string' ? localFields(local) : local
  if (!fields) throw new RangeError('not a local time')
  const wanted = utcOf(fields)
  const offsetAt = (ms: number) => utcOf(localAt(ms, zone)) - Math.floor(ms / 1_000) * 1_000
  // The offset a day before and a day after: between two changes they are the same.
  const [before, after] = [offsetAt(wanted - dayMs), offsetAt(wanted + dayMs)]
  const candidates = [wanted - before, wanted - after].sort((a, b) => a - b)
  return candidates.find((ms) => offsetAt(ms) === wanted - ms) ?? wanted - before
}
