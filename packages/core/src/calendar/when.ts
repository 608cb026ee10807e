import { instantOf, type LocalTime, localFields } from '../timing/local-time.ts'
import { parseCalendarRule } from './calendar-rule.ts'
import { firstZone, type Past, readersEnd } from './reader-zones.ts'
import { dayAt, type Recurring, ringTimes, timesOnDays } from './ring-times.ts'

/** When something rings: once, or again and again. One of `at`, `afterSeconds`, `local` and `from` says so. */
export type When = {
  /** RFC 3339. */
  readonly at?: string | undefined
  readonly afterSeconds?: number | undefined
  /** A wall clock’s time in a zone. */
  readonly local?: LocalTime | undefined
  /** IANA, or `reader` for the clock of each recipient. */
  readonly zone?: string | undefined
  /** With `reader`: what becomes of those for whom the hour is over already; `skip` when left out. */
  readonly past?: Past | undefined
  /** Where a recurrence begins (DTSTART); it rings then only if the rule names it. */
  readonly from?: LocalTime | undefined
  /** RFC 5545 §3.3.10. */
  readonly repeat?: string | undefined
  /** Local times; a day alone means the hour at which it rings first. */
  readonly also?: readonly string[] | undefined
  /** Local times; a day alone means all times of that day. */
  readonly except?: readonly string[] | undefined
}

export const whenLimits = Object.freeze({ afterSeconds: 157_766_400, times: 500, lastYear: 2_200 })

/** A place in `when` and what is wrong there. */
export type WhenFault = { readonly at: keyof When | undefined; readonly says: string }

const kinds = ['at', 'afterSeconds', 'local', 'from'] as const
const companions: Readonly<Record<(typeof kinds)[number], readonly (keyof When)[]>> = {
  at: [],
  afterSeconds: [],
  local: ['zone', 'past'],
  from: ['zone', 'repeat', 'also', 'except', 'past'],
}

const isZone = (zone: string): boolean => {
  try {
    return zone !== '' && new Intl.DateTimeFormat('en', { timeZone: zone }) !== undefined
  } catch (error) {
    if (error instanceof RangeError) return false
    throw error
  }
}

/** What is wrong with it; a time that has passed is somebody else’s to find, who knows what time it is. */
export function whenFaults(when: When): readonly WhenFault[] {
  const given = kinds.filter((kind) => when[kind] !== undefined)
  const [kind] = given
  if (kind === undefined || given.length > 1)
    return [{ at: undefined, says: 'wants one of at, afterSeconds, local with a zone, or from with a zone and repeat' }]
  const faults: WhenFault[] = []
  const fault = (at: keyof When, says: string) => faults.push({ at, says })
  for (const name of Object.keys(when) as (keyof When)[])
    if (when[name] !== undefined && name !== kind && !companions[kind].includes(name))
      fault(name, `does not go with ${kind}`)
  if (kind === 'at' || kind === 'afterSeconds') return [...faults, ...instantFaults(when)]
  if (when.zone === undefined) fault('zone', 'is needed: by which clock')
  else if (when.zone !== 'reader' && !isZone(when.zone))
    fault('zone', 'is neither an IANA time zone, such as Europe/Oslo, nor reader')
  if (when.past !== undefined && when.zone !== 'reader') fault('past', 'belongs to the zone reader')
  const local = when.local ?? when.from ?? ''
  if (!isTime(local)) fault(kind, 'is not a local time such as 2026-11-27T18:00')
  if (kind === 'local') return faults
  if (when.repeat === undefined) fault('repeat', 'is needed, such as FREQ=WEEKLY;BYDAY=MO')
  else {
    const rule = parseCalendarRule(when.repeat)
    if (typeof rule === 'string') fault('repeat', rule)
  }
  for (const name of ['also', 'except'] as const) {
    const times = when[name] ?? []
    if (times.length > whenLimits.times) fault(name, `has more than ${whenLimits.times} times`)
    else if (!times.every((one) => isTime(one) || isDay(one)))
      fault(name, 'wants local times such as 2026-12-24T18:00, or days such as 2026-12-24')
  }
  return faults
}

const isTime = (local: LocalTime): boolean => {
  const fields = localFields(local)
  return fields !== undefined && fields.year > 1900 && fields.year < whenLimits.lastYear
}

/** A day of the calendar without a time: `2026-12-24`. */
const isDay = (text: string): boolean => isTime(`${text}T00:00`)

function instantFaults({ at, afterSeconds = 0 }: When): WhenFault[] {
  const ms = at === undefined ? 0 : Date.parse(at)
  if (Number.isNaN(ms) || ms >= Date.UTC(whenLimits.lastYear, 0, 1))
    return [{ at: 'at', says: `is not an instant before the year ${whenLimits.lastYear}` }]
  return afterSeconds <= whenLimits.afterSeconds
    ? []
    : [{ at: 'afterSeconds', says: 'lies more than five years ahead' }]
}

/** A time, or times without an end that is known. */
export type Timing =
  /** @property lastMs by the clock of each reader it rings last then */
  | { readonly is: 'once'; readonly dueMs: number; readonly lastMs?: number }
  | { readonly is: 'recurring'; readonly recurring: Recurring; readonly zone: string }

/**
 * What a faultless `when` means.
 * @param nowMs from when `afterSeconds` counts
 */
export function timingOf(when: When, nowMs: number): Timing {
  if (when.at !== undefined) return { is: 'once', dueMs: Date.parse(when.at) }
  if (when.afterSeconds !== undefined) return { is: 'once', dueMs: nowMs + when.afterSeconds * 1_000 }
  // By the clock of each reader it rings where the day begins first.
  const zone = when.zone === 'reader' ? firstZone : (when.zone ?? 'UTC')
  if (when.local !== undefined && when.zone === 'reader') {
    const { local, past = 'skip' } = when
    const lastMs = readersEnd({ local, past, sentMs: nowMs })
    return { is: 'once', dueMs: instantOf(local, zone), lastMs: past === 'now' ? Math.max(lastMs, nowMs) : lastMs }
  }
  if (when.local !== undefined) return { is: 'once', dueMs: instantOf(when.local, zone) }
  const rule = parseCalendarRule(when.repeat ?? '')
  if (typeof rule === 'string' || when.from === undefined) throw new RangeError('has faults')
  const { from, also = [], except = [] } = when
  return {
    is: 'recurring',
    zone,
    recurring: {
      from,
      rule,
      also: also.map((one) => (isDay(one) ? one + from.slice('2026-12-24'.length) : one)),
      except: except.filter((one) => !isDay(one)),
      exceptDays: except.filter(isDay),
    },
  }
}

/** Exceptions that leave out nothing: no time of the recurrence is there, or on that day. @returns their places in the list */
export function idleExceptions(when: When): number[] {
  const { except = [] } = when
  const timing = timingOf({ ...when, except: [] }, 0)
  if (timing.is === 'once' || except.length === 0) return []
  const { recurring, zone } = timing
  const dayOf = (one: string) => one.slice(0, '2026-12-24'.length)
  // A time that the clocks skip rings later, and so perhaps on another day.
  const instants = except.map((one) => (isDay(one) ? undefined : instantOf(one, zone)))
  const days = except.flatMap((one, n) =>
    [dayOf(one), instants[n] === undefined ? [] : dayAt(instants[n], zone)].flat(),
  )
  const times = new Set(timesOnDays(recurring, zone, days))
  const ringing = new Set([...times].map((ms) => dayAt(ms, zone)))
  return [...except.keys()].filter((n) =>
    instants[n] === undefined ? !ringing.has(except[n]!) : !times.has(instants[n]),
  )
}

/** The times after an instant, in stretches between which whoever asks can do something else. */
export function* timesAfter(timing: Timing, afterMs: number): Generator<readonly number[]> {
  if (timing.is === 'once') {
    const { dueMs, lastMs = dueMs } = timing
    // Where the first readers’ hour is over, that of others may be to come.
    yield dueMs > afterMs ? [dueMs] : lastMs > afterMs ? [afterMs + 1] : []
  } else yield* ringTimes(timing.recurring, timing.zone, afterMs)
}
