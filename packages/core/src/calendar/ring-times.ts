import { instantOf, type LocalTime, localAt, localFields, steadyUntil } from '../timing/local-time.ts'
import { CalendarDays, dayFits, dayMs } from './calendar-days.ts'
import type { CalendarRule } from './calendar-rule.ts'

/** A recurrence with what is added to it and left out of it, by the clock of one zone. */
export type Recurring = {
  readonly from: LocalTime
  readonly rule: CalendarRule
  /** Further times (RFC 5545 §3.8.5.2), which COUNT and UNTIL do not bound. */
  readonly also: readonly LocalTime[]
  /** Times that do not ring (§3.8.5.1). */
  readonly except: readonly LocalTime[]
  /** Whole days of the zone on which nothing rings: `2026-12-24`. */
  readonly exceptDays?: readonly string[]
}

/** A rule that does not ring for so long after an instant is over. */
export const horizonYears = 100
/** About so many times, so many days, and so many steps of a rule are worked out without a pause: a few ms each. */
const stepLimits = { times: 1_000, days: 366, steps: 200 }

/** 0001-01-01, where calendars begin. */
const firstMs = -62_135_596_800_000

/** As if its wall clock were in UTC. */
const floatingOf = (local: LocalTime): number => Date.parse(`${local.length === 16 ? `${local}:00` : local}Z`)
const fieldsOf = (floatingMs: number) => localFields(new Date(floatingMs).toISOString().slice(0, 19))!

/**
 * The instants after one at which a recurrence rings in a zone, in ascending order, two at the same instant as one. They come in
 * stretches, some of them empty: between two of them whoever asks can do something else. What lies in an hour that the clocks
 * skip rings as long after the gap as it would lie in it; what comes twice rings the first time.
 * @param afterMs without itself
 */
export function* ringTimes(recurring: Recurring, zone: string, afterMs: number): Generator<readonly number[]> {
  const { rule } = recurring
  const also = yield* instantsOf(recurring.also, zone)
  const left = new Set(yield* instantsOf(recurring.except, zone))
  const daysOff = new Set(recurring.exceptDays)
  const rings = (ms: number) => !left.has(ms) && (daysOff.size === 0 || !daysOff.has(dayAt(ms, zone)))
  const own = rule.freq === 'HOURLY' || rule.freq === 'MINUTELY' ? byClock : byCalendar
  const pending = new Set(also.filter((ms) => ms > afterMs))
  for (const { times, upToMs } of own(recurring, zone, afterMs)) {
    for (const ms of times) if (ms > afterMs) pending.add(ms)
    // What was moved ahead over a gap may come after what the next stretch brings.
    const ready = [...pending].filter((ms) => ms < upToMs).sort((a, b) => a - b)
    for (const ms of ready) pending.delete(ms)
    yield ready.filter(rings)
  }
  yield [...pending].filter(rings).sort((a, b) => a - b)
}

/** The day that a clock in a zone shows: `2026-12-24`. */
export const dayAt = (ms: number, zone: string): string => {
  const { year, month, day } = localAt(ms, zone)
  return new Date(Date.UTC(year, month - 1, day)).toISOString().slice(0, 10)
}

/**
 * The instants at which a recurrence would ring on some days, its exceptions aside.
 * @param days of the zone, such as `2026-12-24`
 * @param most at most so many of them
 */
export function timesOnDays(
  recurring: Recurring,
  zone: string,
  days: readonly string[],
  most = Number.POSITIVE_INFINITY,
): number[] {
  const bare = { ...recurring, except: [], exceptDays: [] }
  const sorted = [...new Set(days)].sort()
  // Whoever counts begins at the beginning for each look, and so looks once.
  const spans =
    recurring.rule.count !== undefined && sorted.length > 0
      ? [{ first: sorted[0]!, last: sorted.at(-1)! }]
      : sorted.map((day) => ({ first: day, last: day }))
  const wanted = new Set(sorted)
  const found: number[] = []
  for (const { first, last } of spans) {
    const endMs = instantOf(fieldsAsLocal(Date.parse(`${last}T00:00:00Z`) + dayMs), zone)
    for (const times of ringTimes(bare, zone, instantOf(`${first}T00:00`, zone) - 1)) {
      found.push(...times.filter((ms) => wanted.has(dayAt(ms, zone)) && ms < endMs))
      if (found.length >= most) return found.slice(0, most)
      if (times.some((ms) => ms >= endMs)) break
    }
  }
  return found
}

const fieldsAsLocal = (floatingMs: number): LocalTime => new Date(floatingMs).toISOString().slice(0, 19)

/** The instants of local times, some of them at a time. */
function* instantsOf(locals: readonly LocalTime[], zone: string): Generator<readonly number[], number[]> {
  const instants: number[] = []
  for (const local of locals) {
    instants.push(instantOf(local, zone))
    if (instants.length % (stepLimits.steps / 4) === 0) yield []
  }
  return instants
}

type Stretch = { readonly times: readonly number[]; readonly upToMs: number }

/** Rules of days and longer: the same wall clock, whatever the clocks do. */
function* byCalendar({ from, rule }: Recurring, zone: string, afterMs: number): Generator<Stretch> {
  const startMs = floatingOf(from)
  const days = new CalendarDays(rule, startMs)
  const untilMs = untilOf(rule, zone)
  const timesADay = Math.max(1, rule.byHour.length) * Math.max(1, rule.byMinute.length)
  const maxDays = Math.max(1, Math.min(stepLimits.days, Math.floor(stepLimits.times / timesADay)))
  // Mostly only the next time is wanted, and it is near.
  let stretchDays = Math.min(4, maxDays)
  // No clock is asked what it showed before the year 1.
  const local = localAt(Math.max(afterMs, firstMs), zone)
  const afterLocalMs = Date.UTC(local.year, local.month - 1, local.day) - 2 * dayMs
  // Whoever counts has to begin at the beginning.
  let atMs = rule.count === undefined ? Math.max(afterLocalMs, startMs) : startMs
  const endMs = Math.max(afterLocalMs, startMs) + horizonYears * 365.25 * dayMs
  let counted = 0
  while (atMs < endMs) {
    const nextMs = atMs + stretchDays * dayMs
    stretchDays = Math.min(stretchDays * 4, maxDays)
    const found = days.between(atMs, nextMs)
    const some = rule.count === undefined ? found : found.slice(0, rule.count - counted)
    counted += some.length
    // What a clock in the zone shows is a dear question; what lies before is only counted.
    const wanted = some.filter((ms) => ms >= afterLocalMs)
    const times: number[] = []
    for (const [n, ms] of wanted.entries()) {
      const instant = instantOf(fieldsOf(ms), zone)
      if (instant <= untilMs) times.push(instant)
      // A day can have more times than may be worked out without a pause.
      if (n % stepLimits.steps === stepLimits.steps - 1) yield { times: [], upToMs: Number.NEGATIVE_INFINITY }
    }
    const isOver = (rule.count !== undefined && counted >= rule.count) || instantOf(fieldsOf(atMs), zone) > untilMs
    yield { times, upToMs: isOver ? Number.POSITIVE_INFINITY : instantOf(fieldsOf(nextMs), zone) }
    if (isOver) return
    atMs = nextMs
  }
}

/** Rules of hours and minutes count what passes, so that a clock that is put back rings twice between two and three. */
function* byClock({ from, rule }: Recurring, zone: string, afterMs: number): Generator<Stretch> {
  const startMs = instantOf(from, zone)
  const stepMs = (rule.freq === 'HOURLY' ? 3_600_000 : 60_000) * rule.interval
  const untilMs = untilOf(rule, zone)
  const endMs = Math.max(afterMs, startMs) + horizonYears * 365.25 * dayMs
  let counted = 0
  // A step before the instant: minutes of an hour may lie behind it.
  let no = rule.count === undefined ? Math.max(0, Math.floor((afterMs - startMs) / stepMs) - 1) : 0
  for (;;) {
    const times: number[] = []
    let looked = 0
    for (; looked < stepLimits.steps; looked++, no++) {
      const ms = startMs + no * stepMs
      const local = localAt(ms, zone)
      const resumesMs = !dayFits(rule, local.year, local.month, local.day)
        ? nextFit(rule, local, zone)
        : rule.freq === 'MINUTELY' && rule.byHour.length > 0 && !rule.byHour.includes(local.hour)
          ? ms - (local.minute * 60 + local.second) * 1_000 + 3_600_000
          : nextStep(rule, ms, local, zone)
      if (resumesMs !== undefined) {
        no = Math.max(no, Math.ceil((resumesMs - startMs) / stepMs) - 1)
        continue
      }
      times.push(...withinStep(rule, ms, local).filter((one) => one >= startMs))
    }
    const some = rule.count === undefined ? times : times.slice(0, rule.count - counted)
    counted += some.length
    const nextMs = startMs + no * stepMs
    const isOver = (rule.count !== undefined && counted >= rule.count) || nextMs > untilMs || nextMs > endMs
    yield {
      times: some.filter((one) => one <= untilMs),
      upToMs: isOver ? Number.POSITIVE_INFINITY : nextMs - 3_600_000,
    }
    if (isOver) return
  }
}

/**
 * When the next step comes whose hour or minute a rule names, while the clocks are steady.
 * @returns undefined for a step whose own it names
 */
function nextStep({ freq, byHour, byMinute, interval }: CalendarRule, ms: number, local: Clock, zone: string) {
  const [names, at, of, unitMs] =
    freq === 'HOURLY' ? [byHour, local.hour, 24, 3_600_000] : [byMinute, local.minute, 60, 60_000]
  if (names.length === 0 || names.includes(at)) return undefined
  const steadyMs = steadyUntil(ms, zone)
  for (let steps = 1; steps < of; steps++) {
    const nextMs = ms + steps * interval * unitMs
    if (nextMs >= steadyMs) break
    if (names.includes((at + steps * interval) % of)) return nextMs
  }
  // In steps of two minutes no odd one comes, until the clocks change.
  return Math.max(steadyMs, ms + unitMs)
}

type Clock = { readonly hour: number; readonly minute: number }

/** Where the next day begins on which a rule may ring, or the next month when this one is not meant. */
function nextFit({ byMonth }: CalendarRule, { year, month, day }: Date3, zone: string): number {
  const skipsMonth = byMonth.length > 0 && !byMonth.includes(month)
  return instantOf(fieldsOf(skipsMonth ? Date.UTC(year, month, 1) : Date.UTC(year, month - 1, day + 1)), zone)
}

type Date3 = { readonly year: number; readonly month: number; readonly day: number }

/** The times that one step of an hour or a minute has. */
function withinStep(
  rule: CalendarRule,
  ms: number,
  local: { readonly minute: number; readonly second: number },
): number[] {
  const second = rule.bySecond[0] ?? local.second
  if (rule.freq === 'MINUTELY')
    return rule.byMinute.length > 0 && !rule.byMinute.includes(local.minute)
      ? []
      : [ms + (second - local.second) * 1_000]
  const hourMs = ms - (local.minute * 60 + local.second) * 1_000
  const minutes = rule.byMinute.length > 0 ? rule.byMinute : [local.minute]
  const all = minutes.map((minute) => hourMs + (minute * 60 + second) * 1_000)
  return rule.bySetPos.length === 0 ? all : chosen(all, rule.bySetPos)
}

const chosen = (all: readonly number[], places: readonly number[]): number[] =>
  [...new Set(places.flatMap((place) => all.at(place > 0 ? place - 1 : place) ?? []))].sort((a, b) => a - b)

const untilOf = ({ until }: CalendarRule, zone: string): number =>
  until === undefined ? Number.POSITIVE_INFINITY : 'utcMs' in until ? until.utcMs : instantOf(until.local, zone)
