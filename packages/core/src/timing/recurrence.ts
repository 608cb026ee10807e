import { instantOf, type LocalTime, localFields } from './local-time.ts'

const days = ['SU', 'MO', 'TU', 'WE', 'TH', 'FR', 'SA'] as const

/** The part of RFC 5545 §3.3.10 that a phone's reminder needs. */
export type Recurrence = {
  readonly freq: 'DAILY' | 'WEEKLY' | 'MONTHLY'
  readonly interval: number
  /** 0 is Sunday. */
  readonly byDay: readonly number[]
  readonly byMonthDay: readonly number[]
  readonly count: number | undefined
  readonly until: LocalTime | undefined
}

/**
 * Reads `FREQ=WEEKLY;BYDAY=MO,FR`: DAILY, WEEKLY or MONTHLY, with INTERVAL, BYDAY, BYMONTHDAY, COUNT and UNTIL.
 * @returns a sentence that says what cannot be read
 */
export function parseRecurrence(text: string): Recurrence | string {
  const parts = new Map<string, string>()
  for (const part of text.split(';')) {
    const [name = '', value] = part.split('=')
    if (value === undefined || value === '') return `“${part}” is not a name and a value`
    if (parts.has(name)) return `${name} stands there twice`
    parts.set(name, value)
  }
  const { FREQ, INTERVAL = '1', BYDAY, BYMONTHDAY, COUNT, UNTIL, ...more } = Object.fromEntries(parts)
  const [unknown] = Object.keys(more)
  if (unknown !== undefined) return `${unknown} is not known here`
  if (FREQ !== 'DAILY' && FREQ !== 'WEEKLY' && FREQ !== 'MONTHLY') return 'FREQ wants DAILY, WEEKLY or MONTHLY'
  const byDay = (BYDAY?.split(',') ?? []).map((name) => days.indexOf(name as 'SU'))
  if (byDay.includes(-1)) return `BYDAY wants days such as MO,FR`
  if (FREQ === 'MONTHLY' && byDay.length > 0) return 'BYDAY belongs to DAILY and WEEKLY'
  const byMonthDay = (BYMONTHDAY?.split(',') ?? []).map(Number)
  if (byMonthDay.some((day) => !Number.isInteger(day) || day < 1 || day > 31)) return 'BYMONTHDAY wants 1 to 31'
  if (FREQ !== 'MONTHLY' && byMonthDay.length > 0) return 'BYMONTHDAY belongs to MONTHLY'
  const whole = (given: string) => /^[1-9]\d{0,3}$/.test(given)
  if (!whole(INTERVAL)) return 'INTERVAL wants a whole number'
  if (COUNT !== undefined && !whole(COUNT)) return 'COUNT wants a whole number'
  if (COUNT !== undefined && UNTIL !== undefined) return 'COUNT and UNTIL do not go together'
  const until = UNTIL === undefined ? undefined : /^(\d{4})(\d{2})(\d{2})(?:T(\d{2})(\d{2})(\d{2}))?$/.exec(UNTIL)
  if (until === null) return 'UNTIL wants 20261231 or 20261231T180000, in local time'
  return {
    freq: FREQ,
    interval: Number(INTERVAL),
    byDay,
    byMonthDay,
    count: COUNT === undefined ? undefined : Number(COUNT),
    until: until && `${until[1]}-${until[2]}-${until[3]}T${until[4] ?? '23'}:${until[5] ?? '59'}:${until[6] ?? '59'}`,
  }
}

const dayMs = 86_400_000
/** Nothing rings later than so many days after its begin; this also bounds the search. */
const horizonDays = 3_700

/**
 * The first time after an instant at which a recurrence rings, at the same local time on each of its days.
 * @returns `undefined` when it is over
 */
export function nextOccurrence(from: LocalTime, rule: Recurrence, zone: string, afterMs: number): number | undefined {
  const start = localFields(from)
  if (!start) throw new RangeError('not a local time')
  const firstDay = Date.UTC(start.year, start.month - 1, start.day)
  let rung = 0
  for (let n = 0; n < horizonDays; n++) {
    const day = new Date(firstDay + n * dayMs)
    if (!fits(rule, new Date(firstDay), day)) continue
    if (rule.count !== undefined && rung >= rule.count) return undefined
    rung++
    const date = { year: day.getUTCFullYear(), month: day.getUTCMonth() + 1, day: day.getUTCDate() }
    const ms = instantOf({ ...start, ...date }, zone)
    if (rule.until !== undefined && ms > instantOf(rule.until, zone)) return undefined
    if (ms > afterMs) return ms
  }
  return undefined
}

function fits({ freq, interval, byDay, byMonthDay }: Recurrence, first: Date, day: Date): boolean {
  const passed = Math.round((day.getTime() - first.getTime()) / dayMs)
  switch (freq) {
    case 'DAILY':
      return passed % interval === 0 && (byDay.length === 0 || byDay.includes(day.getUTCDay()))
    case 'WEEKLY': {
      // Weeks begin on Monday (RFC 5545 §3.3.10, WKST).
      const sinceMonday = (first.getUTCDay() + 6) % 7
      const week = Math.floor((passed + sinceMonday) / 7)
      const wanted = byDay.length === 0 ? [first.getUTCDay()] : byDay
      return week % interval === 0 && wanted.includes(day.getUTCDay())
    }
    case 'MONTHLY': {
      const months = (day.getUTCFullYear() - first.getUTCFullYear()) * 12 + day.getUTCMonth() - first.getUTCMonth()
      const wanted = byMonthDay.length === 0 ? [first.getUTCDate()] : byMonthDay
      return months % interval === 0 && wanted.includes(day.getUTCDate())
    }
    default:
      return freq satisfies never
  }
}
