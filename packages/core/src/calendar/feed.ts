import ICAL from 'ical.js'
import { beginningOf } from '../content/well-formed.ts'
import { instantOf, type LocalTime, localAt } from '../timing/local-time.ts'
import type { CalendarRule } from './calendar-rule.ts'
import { ringTimes, timesOnDays } from './ring-times.ts'
import { timesAfter, timingOf, type When } from './when.ts'

/** Something that rings, as a calendar shows it. */
export type FeedEvent = {
  /** Names it among all calendars there are. */
  readonly uid: string
  readonly summary: string
  readonly description: string
  readonly when: When
  /** When it was changed last. */
  readonly changedMs: number
  /** When it rings next: what its rule names before is left out. */
  readonly nextMs: number
  readonly paused: boolean
}

/** Times that come every few minutes are written one by one, so many of them, so far ahead. */
const oneByOne = { times: 500, days: 14 }
/** Zones tell of changes of their clocks so long before and after. */
const zoneYears = { before: 1, after: 4 }

type Property = [name: string, parameters: Record<string, string>, type: string, ...values: unknown[]]
type Component = [name: string, properties: Property[], components: Component[]]

/** So many entries a calendar has at most, of so many characters together; what does not fit is left out. */
export const feedLimits = Object.freeze({ entries: 2_000, chars: 2_000_000, descriptionChars: 1_000 })

/**
 * What is upcoming as an iCalendar (RFC 5545). A recurrence begins with its first real time (§3.8.2.4); what rings by the clock
 * of each reader has floating times (§3.3.5).
 * @param events those that count most first
 * @returns part after part, each of which is soon made: a calendar of thousands takes long as a whole
 */
export function* calendarFeed(name: string, events: readonly FeedEvent[], nowMs: number): Generator<string> {
  const frame = textOf([
    'vcalendar',
    [
      ['prodid', {}, 'text', '-//Zephyr Bell//Upcoming//EN'],
      ['version', {}, 'text', '2.0'],
      ['method', {}, 'text', 'PUBLISH'],
      // RFC 7986 §5.1 and §5.7.
      ['name', {}, 'text', name],
      // What is written says its type by itself, since no default is known for it.
      ['refresh-interval', {}, 'duration', 'PT15M'],
    ],
    [],
  ])
  const end = 'END:VCALENDAR\r\n'
  yield frame.slice(0, -end.length)
  const zones = new Set(events.flatMap((event) => zoneOf(event, nowMs) ?? []))
  for (const zone of zones) yield textOf(zoneComponent(zone, nowMs))
  let [entries, chars] = [0, 0]
  for (const event of events)
    for (const component of componentsOf(event, nowMs)) {
      const text = textOf(component)
      chars += text.length
      if (++entries > feedLimits.entries || chars > feedLimits.chars) return yield end
      yield text
    }
  yield end
}

const textOf = (component: Component): string => `${ICAL.stringify(component as never).trimEnd()}\r\n`

/** The zone by whose clock an event recurs. */
function zoneOf({ when }: FeedEvent, nowMs: number): string | undefined {
  const timing = timingOf(when, nowMs)
  if (timing.is === 'once' || when.zone === 'reader' || isOneByOne(timing.recurring.rule)) return undefined
  return timing.zone
}

const isOneByOne = ({ freq }: CalendarRule): boolean => freq === 'HOURLY' || freq === 'MINUTELY'

const utc = (ms: number): string => new Date(ms).toISOString().slice(0, 19)
const local = ({ year, month, day, hour, minute, second }: ReturnType<typeof localAt>): string =>
  new Date(Date.UTC(year, month - 1, day, hour, minute, second)).toISOString().slice(0, 19)
const withSeconds = (time: LocalTime): string => (time.length === 16 ? `${time}:00` : time)

/** A time of an event: in UTC, by the clock of a zone, or by each reader’s. */
const timeProperty = (name: string, value: string, zone: string | undefined): Property => [
  name,
  zone === undefined ? {} : { tzid: zone },
  'date-time',
  value,
]

function componentsOf(event: FeedEvent, nowMs: number): Component[] {
  const { when, nextMs } = event
  const timing = timingOf(when, nowMs)
  const ofReaders = when.zone === 'reader'
  if (timing.is === 'once') {
    const start = ofReaders ? withSeconds(when.local ?? '') : `${utc(nextMs)}Z`
    return [eventOf(event, event.uid, [timeProperty('dtstart', start, undefined)])]
  }
  const { recurring, zone } = timing
  const { rule, also, except, exceptDays = [] } = recurring
  if (isOneByOne(rule)) return timesOf(event, nowMs)
  const first = firstOf({ ...recurring, also: [], except: [], exceptDays: [] }, zone) ?? firstOf(recurring, zone)
  if (first === undefined) return []
  const tzid = ofReaders ? undefined : zone
  const show = (ms: number) => local(localAt(ms, zone))
  // Each time of a day that is left out: not every calendar knows a day as an exception to what has hours.
  const today = utc(nowMs - 86_400_000).slice(0, 10)
  const onDays = timesOnDays(
    recurring,
    zone,
    exceptDays.filter((day) => day >= today),
    oneByOne.times,
  )
  const left = [...new Set([...except.map(withSeconds), ...onDays.map(show), ...leftOut(event, nowMs).map(show)])]
  return [
    eventOf(event, event.uid, [
      timeProperty('dtstart', show(first), tzid),
      [
        'rrule',
        {},
        'recur',
        ICAL.Recur.fromString(
          ruleText(when.repeat ?? '', rule, show(first), ofReaders ? 'UTC' : zone, ofReaders),
        ).toJSON(),
      ],
      ...also.map((one) => timeProperty('rdate', withSeconds(one), tzid)),
      ...left.map((one) => timeProperty('exdate', one, tzid)),
    ]),
  ]
}

/** Times that its rule names from now on and before the next one: somebody left them out. */
function leftOut({ when, nextMs }: FeedEvent, nowMs: number): number[] {
  const left: number[] = []
  for (const times of timesAfter(timingOf(when, nowMs), nowMs)) {
    left.push(...times.filter((ms) => ms < nextMs))
    if (times.some((ms) => ms >= nextMs) || left.length >= oneByOne.times) break
  }
  return left.slice(0, oneByOne.times)
}

function firstOf(recurring: Parameters<typeof ringTimes>[0], zone: string): number | undefined {
  for (const [first] of ringTimes(recurring, zone, instantOf(recurring.from, zone) - 1))
    if (first !== undefined) return first
  return undefined
}

/**
 * The same rule, whose end is in UTC where its times have a zone, and floats where they do (§3.3.10). What it takes from the day
 * on which it begins is said: not every calendar leaves out a 29th of February that a year does not have.
 */
function ruleText(text: string, rule: CalendarRule, firstLocal: string, zone: string, floats: boolean): string {
  const { until, freq } = rule
  const days = [rule.byDay, rule.byMonthDay, rule.byYearDay, rule.byWeekNo, rule.byMonth].every(
    (part) => part.length === 0,
  )
  const [, month, day] = /^\d{4}-(\d\d)-(\d\d)/.exec(firstLocal) ?? []
  const own =
    days && freq === 'YEARLY'
      ? `;BYMONTH=${Number(month)};BYMONTHDAY=${Number(day)}`
      : days && freq === 'MONTHLY'
        ? `;BYMONTHDAY=${Number(day)}`
        : ''
  if (until === undefined) return text + own
  const ms = 'utcMs' in until ? until.utcMs : instantOf(until.local, zone)
  const end = `${utc(ms).replaceAll(/[-:]/g, '')}${floats ? '' : 'Z'}`
  return text.replace(/UNTIL=[^;]+/i, `UNTIL=${end}`) + own
}

function timesOf(event: FeedEvent, nowMs: number): Component[] {
  const untilMs = nowMs + oneByOne.days * 86_400_000
  const found: number[] = []
  for (const times of timesAfter(timingOf(event.when, nowMs), Math.max(nowMs, event.nextMs) - 1)) {
    found.push(...times.filter((ms) => ms < untilMs))
    if (found.length >= oneByOne.times || times.some((ms) => ms >= untilMs)) break
  }
  return found
    .slice(0, oneByOne.times)
    .map((ms) => eventOf(event, `${ms}.${event.uid}`, [timeProperty('dtstart', `${utc(ms)}Z`, undefined)]))
}

function eventOf({ summary, description, changedMs, paused }: FeedEvent, uid: string, times: Property[]): Component {
  return [
    'vevent',
    [
      ['uid', {}, 'text', uid],
      ['dtstamp', {}, 'date-time', `${utc(changedMs)}Z`],
      ...times,
      ['summary', {}, 'text', paused ? `${summary} (paused)` : summary],
      ['description', {}, 'text', beginningOf(description, feedLimits.descriptionChars)],
      ['status', {}, 'text', paused ? 'TENTATIVE' : 'CONFIRMED'],
      ['transp', {}, 'text', 'TRANSPARENT'],
    ],
    [],
  ]
}

const hourMs = 3_600_000
const stepMs = 10 * 24 * hourMs

/** A zone with each change of its clock around now (§3.6.5). */
function zoneComponent(zone: string, nowMs: number): Component {
  const yearMs = 365.25 * 24 * hourMs
  // By the day, so that a calendar of which nothing changed is the same for that long.
  const todayMs = Math.floor(nowMs / (24 * hourMs)) * 24 * hourMs
  const [fromMs, toMs] = [todayMs - zoneYears.before * yearMs, todayMs + zoneYears.after * yearMs]
  const offsetAt = (ms: number) => Date.parse(`${local(localAt(ms, zone))}Z`) - Math.floor(ms / 1_000) * 1_000
  const changes: Component[] = []
  let before = offsetAt(fromMs)
  const begins = observance('standard', fromMs, before, before)
  for (let atMs = fromMs; atMs < toMs; atMs += stepMs) {
    const after = offsetAt(atMs + stepMs)
    if (after === before) continue
    let [low, high] = [atMs, atMs + stepMs]
    while (high - low > 1_000) {
      const middle = Math.floor((low + high) / 2_000) * 1_000
      if (middle <= low) break
      if (offsetAt(middle) === before) low = middle
      else high = middle
    }
    changes.push(observance(after > before ? 'daylight' : 'standard', high, before, after))
    before = after
  }
  return ['vtimezone', [['tzid', {}, 'text', zone]], [begins, ...changes]]
}

/** @param atMs when the clock is set from one offset to the other, in ms ahead of UTC */
function observance(name: 'standard' | 'daylight', atMs: number, fromOffset: number, toOffset: number): Component {
  return [
    name,
    [
      ['dtstart', {}, 'date-time', utc(atMs + fromOffset)],
      ['tzoffsetfrom', {}, 'utc-offset', offsetText(fromOffset)],
      ['tzoffsetto', {}, 'utc-offset', offsetText(toOffset)],
    ],
    [],
  ]
}

function offsetText(ms: number): string {
  const minutes = Math.round(Math.abs(ms) / 60_000)
  const two = (n: number) => String(n).padStart(2, '0')
  return `${ms < 0 ? '-' : '+'}${two(Math.floor(minutes / 60))}:${two(minutes % 60)}`
}
