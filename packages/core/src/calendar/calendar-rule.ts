import { type LocalTime, localFields } from '../timing/local-time.ts'

export const frequencies = ['YEARLY', 'MONTHLY', 'WEEKLY', 'DAILY', 'HOURLY', 'MINUTELY'] as const
export type Frequency = (typeof frequencies)[number]
export const weekdays = ['MO', 'TU', 'WE', 'TH', 'FR', 'SA', 'SU'] as const
export type Weekday = (typeof weekdays)[number]

/** A recurrence rule (RFC 5545 §3.3.10). Lists are empty where the rule has none. */
export type CalendarRule = {
  readonly freq: Frequency
  readonly interval: number
  readonly count: number | undefined
  /** In UTC, or by the clock of the zone in which the rule begins; a date alone holds to its end. */
  readonly until: { readonly utcMs: number } | { readonly local: LocalTime } | undefined
  /** In ascending order. */
  readonly byMinute: readonly number[]
  readonly byHour: readonly number[]
  readonly bySecond: readonly number[]
  /** With the ordinal in its month or year: `2MO`, `-1FR`; 0 for every one. */
  readonly byDay: readonly { readonly day: Weekday; readonly nth: number }[]
  readonly byMonthDay: readonly number[]
  readonly byYearDay: readonly number[]
  readonly byWeekNo: readonly number[]
  readonly byMonth: readonly number[]
  readonly bySetPos: readonly number[]
  readonly weekStart: Weekday
}

/** What a rule may say at most. */
export const calendarLimits = Object.freeze({ chars: 500, interval: 10_000, count: 100_000, setPosTimesADay: 24 })

type Parts = Readonly<Partial<Record<string, string>>>

/** Numbers that a part may have: from, to, and whether they count from the end as well. */
const ranges = {
  BYSECOND: [0, 59, false],
  BYMINUTE: [0, 59, false],
  BYHOUR: [0, 23, false],
  BYMONTHDAY: [1, 31, true],
  BYYEARDAY: [1, 366, true],
  BYWEEKNO: [1, 53, true],
  BYMONTH: [1, 12, false],
  BYSETPOS: [1, 366, true],
} as const satisfies Readonly<Record<string, readonly [number, number, boolean]>>
const known = ['FREQ', 'INTERVAL', 'COUNT', 'UNTIL', 'WKST', 'BYDAY', ...Object.keys(ranges)]

/** Something that a rule cannot say. */
class Refused extends Error {}

/**
 * Reads a rule such as `FREQ=WEEKLY;BYDAY=MO,TU`.
 * @returns a sentence that says what cannot be read, or what would ring too often
 */
export function parseCalendarRule(text: string): CalendarRule | string {
  if (text.length > calendarLimits.chars) return `has more than ${calendarLimits.chars} characters`
  try {
    return ruleOf(partsOf(text))
  } catch (error) {
    if (error instanceof Refused) return error.message
    throw error
  }
}

const refuse = (says: string): never => {
  throw new Refused(says)
}

function partsOf(text: string): Parts {
  const parts = new Map<string, string>()
  for (const part of text
    .trim()
    .replace(/^RRULE:/i, '')
    .split(';')) {
    const [name = '', value = '', ...more] = part.toUpperCase().split('=')
    if (value === '' || more.length > 0) refuse(`“${part}” is not a name and a value, such as FREQ=DAILY`)
    if (!known.includes(name)) refuse(`${name.slice(0, 30)} is no part of a recurrence; there are ${known.join(', ')}`)
    if (parts.has(name)) refuse(`${name} stands there twice`)
    parts.set(name, value)
  }
  return Object.fromEntries(parts)
}

function ruleOf(parts: Parts): CalendarRule {
  const freq = frequencyOf(parts.FREQ)
  const list = (name: keyof typeof ranges) => numbersOf(name, parts[name])
  const rule = {
    freq,
    interval: wholeOf('INTERVAL', parts.INTERVAL ?? '1', calendarLimits.interval),
    count: parts.COUNT === undefined ? undefined : wholeOf('COUNT', parts.COUNT, calendarLimits.count),
    until: parts.UNTIL === undefined ? undefined : untilOf(parts.UNTIL),
    bySecond: list('BYSECOND'),
    byMinute: list('BYMINUTE'),
    byHour: list('BYHOUR'),
    byDay: daysOf(parts.BYDAY),
    byMonthDay: list('BYMONTHDAY'),
    byYearDay: list('BYYEARDAY'),
    byWeekNo: list('BYWEEKNO'),
    byMonth: list('BYMONTH'),
    bySetPos: list('BYSETPOS'),
    weekStart: weekdayOf('WKST', parts.WKST ?? 'MO'),
  }
  checkTogether(rule)
  return rule
}

function frequencyOf(given: string | undefined): Frequency {
  if (given === undefined) refuse('a recurrence wants FREQ, such as FREQ=DAILY')
  if (given === 'SECONDLY') refuse('FREQ=SECONDLY would ring every second; MINUTELY is the most often that rings')
  const freq = frequencies.find((one) => one === given)
  return freq ?? refuse(`FREQ wants one of ${frequencies.join(', ')}`)
}

function wholeOf(name: string, given: string, most: number): number {
  const number = /^\d{1,9}$/.test(given) ? Number(given) : 0
  if (number < 1 || number > most) refuse(`${name} wants a whole number from 1 to ${most.toLocaleString('en')}`)
  return number
}

function numbersOf(name: keyof typeof ranges, given: string | undefined): readonly number[] {
  if (given === undefined) return []
  const [from, to, signed] = ranges[name]
  const numbers = given.split(',').map((one) => (/^[+-]?\d{1,3}$/.test(one) ? Number(one) : Number.NaN))
  for (const one of numbers) {
    const size = signed ? Math.abs(one) : one
    if (!(size >= from && size <= to))
      refuse(`${name} wants numbers from ${from} to ${to}${signed ? ', or as many from the end with a minus' : ''}`)
  }
  return [...new Set(numbers)].sort((a, b) => a - b)
}

function daysOf(given: string | undefined): CalendarRule['byDay'] {
  return (given?.split(',') ?? []).map((one) => {
    const [, sign = '', digits, day] = /^([+-]?)(\d{1,2})?(MO|TU|WE|TH|FR|SA|SU)$/.exec(one) ?? []
    if (day === undefined || (digits === undefined && sign !== '')) refuse('BYDAY wants days such as MO,FR or 2TU,-1FR')
    const nth = Number(`${sign}${digits ?? 0}`)
    if (digits !== undefined && (nth === 0 || Math.abs(nth) > 53))
      refuse('the number before a day of BYDAY lies from 1 to 53')
    return { day: day as Weekday, nth }
  })
}

function weekdayOf(name: string, given: string): Weekday {
  return weekdays.find((one) => one === given) ?? refuse(`${name} wants a day such as MO`)
}

function untilOf(given: string): CalendarRule['until'] {
  const [, date, time, utc] = /^(\d{8})(?:T(\d{6})(Z)?)?$/.exec(given) ?? []
  const digits = `${date ?? ''}${time ?? '235959'}`
  const local = digits.replace(/^(\d{4})(\d\d)(\d\d)(\d\d)(\d\d)(\d\d)$/, '$1-$2-$3T$4:$5:$6')
  if (date === undefined || !localFields(local))
    refuse('UNTIL wants a date such as 20261231, or a time such as 20261231T180000, with a Z for UTC')
  return utc ? { utcMs: Date.parse(`${local}Z`) } : { local }
}

/** What the standard allows together, and what rings once a minute at most. */
function checkTogether(rule: CalendarRule): void {
  const { freq, byDay, byMonthDay, byYearDay, byWeekNo, byMonth, bySetPos, bySecond, byHour, byMinute } = rule
  const isLongerThan = (other: Frequency) => frequencies.indexOf(freq) < frequencies.indexOf(other)
  if (rule.count !== undefined && rule.until !== undefined) refuse('COUNT and UNTIL do not go together')
  if (bySecond.length > 1) refuse('BYSECOND with several seconds would ring more than once a minute')
  if (byDay.some(({ nth }) => nth !== 0)) {
    if (freq !== 'MONTHLY' && freq !== 'YEARLY') refuse('days with a number, such as 2TU, belong to MONTHLY and YEARLY')
    if (byWeekNo.length > 0) refuse('days with a number, such as 2TU, do not go with BYWEEKNO')
  }
  if (byMonthDay.length > 0 && freq === 'WEEKLY') refuse('BYMONTHDAY does not go with WEEKLY')
  if (byYearDay.length > 0 && (freq === 'DAILY' || freq === 'WEEKLY' || freq === 'MONTHLY'))
    refuse(`BYYEARDAY does not go with ${freq}`)
  if (byWeekNo.length > 0 && freq !== 'YEARLY') refuse('BYWEEKNO belongs to YEARLY')
  if (bySetPos.length > 0) {
    const others = [byDay, byMonthDay, byYearDay, byWeekNo, byMonth, byHour, byMinute, bySecond]
    if (others.every((one) => one.length === 0)) refuse('BYSETPOS chooses from what another part names, such as BYDAY')
    const timesADay = Math.max(1, byHour.length) * Math.max(1, byMinute.length)
    if (isLongerThan('HOURLY') && timesADay > calendarLimits.setPosTimesADay)
      refuse(`BYSETPOS chooses from ${calendarLimits.setPosTimesADay} times a day at most`)
  }
}
