import { type CalendarRule, weekdays } from './calendar-rule.ts'

export const dayMs = 86_400_000

/** A day of a calendar that knows no zone: its midnight as if in UTC, and what a rule asks of it. */
type Day = {
  readonly ms: number
  readonly year: number
  readonly month: number
  readonly date: number
  /** 0 is Monday. */
  readonly weekday: number
}

function dayOf(ms: number): Day {
  const at = new Date(ms)
  return {
    ms,
    year: at.getUTCFullYear(),
    month: at.getUTCMonth() + 1,
    date: at.getUTCDate(),
    weekday: (at.getUTCDay() + 6) % 7,
  }
}

const midnightOf = (ms: number): number => Math.floor(ms / dayMs) * dayMs
const lengthOfMonth = (year: number, month: number): number => new Date(Date.UTC(year, month, 0)).getUTCDate()
/** Whether a number, or what it is from the end of so many, is on a list; an empty list has all. */
const isOn = (list: readonly number[], number: number, of: number): boolean =>
  list.length === 0 || list.includes(number) || list.includes(number - of - 1)

/**
 * The times of a rule of whole days and longer, on a clock that knows no zone: instants as if its wall clock were in UTC. Each
 * day is looked at by itself, so that a stretch of days costs their number, also where none of them fits: a library that goes
 * from one time to the next searches to the year 9999 for one that never comes.
 */
export class CalendarDays {
  readonly #rule: CalendarRule
  readonly #startMs: number
  readonly #start: Day
  /** The times of a day, in ms from its midnight. */
  readonly #times: readonly number[]

  /** @param startMs DTSTART, as if in UTC */
  constructor(rule: CalendarRule, startMs: number) {
    this.#startMs = startMs
    this.#start = dayOf(midnightOf(startMs))
    this.#rule = withDefaults(rule, this.#start)
    this.#times = timesOf(rule, startMs)
  }

  /** All times from one up to, and without, another, in ascending order. */
  between(fromMs: number, toMs: number): number[] {
    const inside = (ms: number) => ms >= Math.max(fromMs, this.#startMs) && ms < toMs
    if (this.#rule.bySetPos.length === 0) return this.#timesIn(midnightOf(fromMs), toMs).filter(inside)
    const found: number[] = []
    for (let [at, next] = this.#periodAt(fromMs); at < toMs; [at, next] = this.#periodAt(next)) {
      const all = this.#timesIn(at, next)
      const chosen = this.#rule.bySetPos.flatMap((place) => all.at(place > 0 ? place - 1 : place) ?? [])
      found.push(...[...new Set(chosen)].sort((a, b) => a - b))
    }
    return found.filter(inside)
  }

  /** @param fromMs a midnight */
  #timesIn(fromMs: number, toMs: number): number[] {
    const found: number[] = []
    for (let ms = fromMs; ms < toMs; ms += dayMs) {
      const day = dayOf(ms)
      if (this.#isInStep(day) && fits(this.#rule, day)) for (const time of this.#times) found.push(ms + time)
    }
    return found
  }

  /** Whether its day, week, month or year is one of those that INTERVAL names. */
  #isInStep(day: Day): boolean {
    const { freq, interval, weekStart } = this.#rule
    const start = this.#start
    switch (freq) {
      case 'YEARLY':
        return (day.year - start.year) % interval === 0
      case 'MONTHLY':
        return ((day.year - start.year) * 12 + day.month - start.month) % interval === 0
      case 'WEEKLY': {
        const weeks = (weekOf(day, weekStart) - weekOf(start, weekStart)) / (7 * dayMs)
        return weeks % interval === 0
      }
      default:
        return ((day.ms - start.ms) / dayMs) % interval === 0
    }
  }

  /** The day, week, month or year in which a time lies, and where the next one begins: BYSETPOS chooses within it. */
  #periodAt(ms: number): readonly [number, number] {
    const day = dayOf(midnightOf(ms))
    switch (this.#rule.freq) {
      case 'YEARLY':
        return [Date.UTC(day.year, 0, 1), Date.UTC(day.year + 1, 0, 1)]
      case 'MONTHLY':
        return [Date.UTC(day.year, day.month - 1, 1), Date.UTC(day.year, day.month, 1)]
      case 'WEEKLY': {
        const week = weekOf(day, this.#rule.weekStart)
        return [week, week + 7 * dayMs]
      }
      default:
        return [day.ms, day.ms + dayMs]
    }
  }
}

/** What a rule leaves out comes from its first time (RFC 5545 §3.3.10). */
function withDefaults(rule: CalendarRule, start: Day): CalendarRule {
  const { freq, byDay, byMonthDay, byYearDay, byWeekNo, byMonth } = rule
  if (byDay.length > 0 || byMonthDay.length > 0 || byYearDay.length > 0 || freq === 'DAILY') return rule
  if (freq === 'WEEKLY' || byWeekNo.length > 0) return { ...rule, byDay: [{ day: weekdays[start.weekday]!, nth: 0 }] }
  const ofYear = freq === 'YEARLY' && byMonth.length === 0
  return { ...rule, byMonthDay: [start.date], byMonth: ofYear ? [start.month] : byMonth }
}

function timesOf({ byHour, byMinute, bySecond }: CalendarRule, startMs: number): readonly number[] {
  const at = new Date(startMs)
  const hours = byHour.length > 0 ? byHour : [at.getUTCHours()]
  const minutes = byMinute.length > 0 ? byMinute : [at.getUTCMinutes()]
  const second = bySecond[0] ?? at.getUTCSeconds()
  return hours.flatMap((hour) => minutes.map((minute) => ((hour * 60 + minute) * 60 + second) * 1_000))
}

/** Whether a day is one that every part of a rule names. */
export function dayFits(rule: CalendarRule, year: number, month: number, date: number): boolean {
  return fits(rule, dayOf(Date.UTC(year, month - 1, date)))
}

function fits(rule: CalendarRule, day: Day): boolean {
  const { byMonth, byMonthDay, byYearDay, byWeekNo, byDay } = rule
  if (byMonth.length > 0 && !byMonth.includes(day.month)) return false
  if (byMonthDay.length > 0 && !isOn(byMonthDay, day.date, lengthOfMonth(day.year, day.month))) return false
  if (byYearDay.length > 0 && !isOn(byYearDay, dayOfYear(day), lengthOfYear(day.year))) return false
  if (byWeekNo.length > 0 && !isInWeeks(rule, day)) return false
  return byDay.length === 0 || byDay.some((one) => weekdays[day.weekday] === one.day && isNth(rule, day, one.nth))
}

const dayOfYear = ({ ms, year }: Day): number => (ms - Date.UTC(year, 0, 1)) / dayMs + 1
const lengthOfYear = (year: number): number => (Date.UTC(year + 1, 0, 1) - Date.UTC(year, 0, 1)) / dayMs

/** Whether a day is the nth of its weekday, in its month, or in its year where a yearly rule names no months. */
function isNth({ freq, byMonth }: CalendarRule, day: Day, nth: number): boolean {
  if (nth === 0) return true
  const ofYear = freq === 'YEARLY' && byMonth.length === 0
  const [place, of] = ofYear ? [dayOfYear(day), lengthOfYear(day.year)] : [day.date, lengthOfMonth(day.year, day.month)]
  return nth > 0 ? Math.ceil(place / 7) === nth : Math.ceil((of - place + 1) / 7) === -nth
}

const weekOf = ({ ms, weekday }: Day, weekStart: CalendarRule['weekStart']): number =>
  ms - ((weekday - weekdays.indexOf(weekStart) + 7) % 7) * dayMs

/** Whether a day lies in one of the weeks: the first of a year has four of its days at least. */
function isInWeeks({ byWeekNo, weekStart }: CalendarRule, day: Day): boolean {
  const week = weekOf(day, weekStart)
  // The fourth day of a week says to which year the week belongs.
  const year = new Date(week + 3 * dayMs).getUTCFullYear()
  const first = (of: number) => weekOf(dayOf(Date.UTC(of, 0, 4)), weekStart)
  const weeks = (first(year + 1) - first(year)) / (7 * dayMs)
  return isOn(byWeekNo, (week - first(year)) / (7 * dayMs) + 1, weeks)
}
