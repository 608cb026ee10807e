import { localAt, localFields } from '@zbell/core'
import type { When } from '@zbell/core/calendar'

/** What its clock shows, each reader’s will show later. */
export { firstZone } from '@zbell/core/calendar'

/** What somebody typed about when something rings. */
export type TypedWhen = {
  /** `18:00`, `tomorrow 18:00`, `2026-11-27 18:00`, or an instant such as 2026-11-27T17:00:00Z. */
  readonly at?: string | undefined
  /** `15m`, `1h30m`, `2d`. */
  readonly in?: string | undefined
  /** IANA; of whoever types when left out. */
  readonly zone?: string | undefined
  /** With the zone `reader`: `skip`, `now` or `tomorrow`. */
  readonly past?: string | undefined
  /** RFC 5545. */
  readonly repeat?: string | undefined
  /** Further times, and times that do not ring: `2026-12-24 18:00`, or a whole day. */
  readonly also?: readonly string[] | undefined
  readonly except?: readonly string[] | undefined
}

const clock = /^(?:(today|tomorrow)\s+)?(\d{1,2})[:.](\d{2})$/i
const date = /^(\d{4}-\d{2}-\d{2})[ T](\d{1,2})[:.](\d{2})(?::(\d{2}))?$/
const instant = /^\d{4}-\d{2}-\d{2}T\d{2}:\d{2}(?::\d{2}(?:\.\d{1,3})?)?(?:Z|[+-]\d{2}:\d{2})$/i
const span = /^(?=\d)(?:(\d+)d)?\s*(?:(\d+)h)?\s*(?:(\d+)m(?:in)?)?\s*(?:(\d+)s)?$/

/**
 * Reads what somebody typed.
 * @param ownZone by whose clock a time is meant that names no zone
 * @returns undefined when nothing was typed; a sentence that says what cannot be read
 */
export function whenOfTyped(typed: TypedWhen, nowMs: number, ownZone: string): When | string | undefined {
  const { at, zone = ownZone, repeat } = typed
  const after = typed.in
  if (at === undefined && after === undefined && repeat === undefined)
    return typed.zone === undefined ? undefined : 'a zone belongs to a time: say at what time'
  if (after !== undefined) {
    if (at !== undefined || repeat !== undefined) return 'either a time or how long from now, not both'
    return afterOf(after)
  }
  if (at !== undefined && instant.test(at)) {
    if (repeat !== undefined) return 'what repeats follows a clock: give a time without an offset, and a zone'
    return typed.zone === undefined ? { at } : 'an instant has no zone; give a time without an offset'
  }
  // What day it is for the readers is another question for each; it is taken from whoever types.
  const clockZone = zone === 'reader' ? ownZone : zone
  if (!isZone(clockZone)) return `“${zone}” is no time zone; write Europe/Oslo, or reader for each reader’s own`
  const local = at === undefined ? wall(nowMs, clockZone).slice(0, 16) : localOf(at, nowMs, clockZone)
  if (local === undefined)
    return `“${at}” is no time; write 18:00, tomorrow 18:00, "2026-11-27 18:00" or 2026-11-27T17:00:00Z`
  const past = typed.past === undefined ? {} : { past: typed.past as NonNullable<When['past']> }
  if (repeat === undefined)
    return typed.also || typed.except ? 'further times and exceptions belong to what repeats' : { local, zone, ...past }
  const lists: { also?: string[]; except?: string[] } = {}
  for (const name of ['also', 'except'] as const) {
    const read = typed[name]?.map(timeOrDay)
    const at = read?.indexOf(undefined) ?? -1
    if (at >= 0) return `“${typed[name]![at]}” is neither a day nor a time; write 2026-12-24 or "2026-12-24 18:00"`
    if (read) lists[name] = read as string[]
  }
  return { from: local, zone, repeat, ...past, ...lists }
}

/** @returns undefined for what is neither */
function timeOrDay(text: string): string | undefined {
  const day = /^\d{4}-\d{2}-\d{2}$/.exec(text.trim())?.[0]
  if (day !== undefined) return checked(`${day}T00:00`) && day
  const [, on, hours, minutes] = date.exec(text.trim()) ?? []
  return on === undefined ? undefined : checked(`${on}T${hours!.padStart(2, '0')}:${minutes}`)
}

function afterOf(text: string): When | string {
  const [whole, days = '0', hours = '0', minutes = '0', seconds = '0'] = span.exec(text.trim()) ?? []
  if (whole === undefined) return `“${text}” is no length of time; write 15m, 1h30m or 2d`
  return { afterSeconds: Number(days) * 86_400 + Number(hours) * 3_600 + Number(minutes) * 60 + Number(seconds) }
}

function isZone(zone: string): boolean {
  try {
    return new Intl.DateTimeFormat('en', { timeZone: zone }) !== undefined
  } catch (error) {
    if (error instanceof RangeError) return false
    throw error
  }
}

const two = (number: number): string => String(number).padStart(2, '0')

/** What a clock shows: `2026-11-27T18:00:00`. */
function wall(ms: number, zone: string): string {
  const { year, month, day, hour, minute, second } = localAt(ms, zone)
  return `${year}-${two(month)}-${two(day)}T${two(hour)}:${two(minute)}:${two(second)}`
}

/** @returns undefined for what is no time */
function localOf(text: string, nowMs: number, zone: string): string | undefined {
  const [, day, hours, minutes, seconds] = date.exec(text.trim()) ?? []
  if (day !== undefined) return checked(`${day}T${hours!.padStart(2, '0')}:${minutes}${seconds ? `:${seconds}` : ''}`)
  const [, named, hour, minute] = clock.exec(text.trim()) ?? []
  if (hour === undefined) return undefined
  const now = wall(nowMs, zone)
  const time = `${hour.padStart(2, '0')}:${minute}`
  // A time that is over for today is meant for tomorrow, unless it says otherwise.
  const isOver = named === undefined && time <= now.slice(11, 16)
  const dayMs = Date.parse(`${now.slice(0, 10)}T00:00:00Z`)
  const shift = named?.toLowerCase() === 'tomorrow' || isOver ? 86_400_000 : 0
  return checked(`${new Date(dayMs + shift).toISOString().slice(0, 10)}T${time}`)
}

const checked = (local: string): string | undefined => (localFields(local) ? local : undefined)

/** A timing in words: `every FREQ=DAILY from 2026-11-27 18:00 (Europe/Oslo)`. */
export function sayWhen(when: When): string {
  const spaced = (local: string) => local.replace('T', ' ')
  if (when.at !== undefined) return when.at
  if (when.afterSeconds !== undefined) return `${when.afterSeconds} s after it is saved`
  const clock = when.zone === 'reader' ? 'each reader’s clock' : when.zone
  if (when.local !== undefined) return `${spaced(when.local)} (${clock})`
  const { also = [], except = [] } = when
  const list = (word: string, all: readonly string[]) =>
    all.length === 0
      ? ''
      : `, ${word} ${all.slice(0, told).map(spaced).join(', ')}${all.length > told ? ` and ${all.length - told} more` : ''}`
  return `${when.repeat} from ${spaced(when.from ?? '')} (${clock})${list('also', also)}${list('except', except)}`
}

/** So many further times and exceptions are told of each. */
const told = 3
