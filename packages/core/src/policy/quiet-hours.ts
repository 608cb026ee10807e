import { type Weekday, weekdays } from '../calendar/calendar-rule.ts'
import { instantOf, localAt } from '../timing/local-time.ts'
import { type Coverage, type Covered, covers } from './covers.ts'

export { type Weekday, weekdays }

/** Hours of the reader’s clock in which nothing rings. */
export type QuietWindow = Coverage & {
  /** The days on which it begins; every day when left out. */
  readonly days?: readonly Weekday[] | undefined
  /** `22:00` */
  readonly from: string
  /** `07:00`: of the next day where it is not later than `from`. */
  readonly to: string
  /** What becomes of a notification that comes then: it waits until they end, or it is left out. */
  readonly then: 'wait' | 'skip'
}

export const quietHoursLimits = Object.freeze({ windows: 20 })

export type QuietVerdict =
  | { readonly is: 'open' }
  | { readonly is: 'skip' }
  | { readonly is: 'wait'; readonly untilMs: number }

/** The windows of an app that hold for a notification; `high` passes unless a window says otherwise. */
export const quietFor = (windows: readonly QuietWindow[], notification: Covered): readonly QuietWindow[] =>
  notification.channel?.quietHours === false
    ? []
    : windows.filter((window) => covers({ ...window, belowUrgency: belowOf(window) }, notification))

const belowOf = ({ belowUrgency }: QuietWindow) => (belowUrgency === undefined ? 'high' : belowUrgency)

const minuteOfDay = (clock: string): number => Number(clock.slice(0, 2)) * 60 + Number(clock.slice(3))
const dayMs = 86_400_000
/** Windows that follow each other are followed so far; whoever is quiet for longer is asked again then. */
const maxFollowed = 16

/**
 * Whether these windows let something ring in a zone at an instant, and if not, until when.
 * Where several hold, the stricter one does: leaving out before waiting, the later end before the earlier.
 * @throws {RangeError} for what is no IANA zone
 */
export function quietVerdict(windows: readonly QuietWindow[], zone: string, atMs: number): QuietVerdict {
  if (windows.length === 0) return { is: 'open' }
  let untilMs = atMs
  for (let followed = 0; followed < maxFollowed; followed++) {
    const ends = windows.flatMap((window) => {
      // What begins later and leaves out is asked then, and ends no wait.
      const endMs = followed > 0 && window.then === 'skip' ? undefined : endOf(window, zone, untilMs)
      return endMs === undefined ? [] : [{ window, endMs }]
    })
    if (ends.length === 0) break
    if (followed === 0 && ends.some(({ window }) => window.then === 'skip')) return { is: 'skip' }
    const next = Math.max(...ends.map(({ endMs }) => endMs))
    if (next <= untilMs) break
    untilMs = next
  }
  return untilMs > atMs ? { is: 'wait', untilMs } : { is: 'open' }
}

/** When a window ends that is in force at an instant; undefined where it is not. */
function endOf({ days = weekdays, from, to }: QuietWindow, zone: string, atMs: number): number | undefined {
  const local = localAt(atMs, zone)
  const minute = local.hour * 60 + local.minute
  const [begin, end] = [minuteOfDay(from), minuteOfDay(to)]
  const overnight = end <= begin
  const today = Date.UTC(local.year, local.month - 1, local.day)
  const isDay = (dayAt: number) => days.includes(weekdays[(new Date(dayAt).getUTCDay() + 6) % 7]!)
  const endAt = (dayAt: number) => {
    const day = new Date(dayAt)
    const date = { year: day.getUTCFullYear(), month: day.getUTCMonth() + 1, day: day.getUTCDate() }
    return instantOf({ ...date, hour: Math.floor(end / 60), minute: end % 60, second: 0 }, zone)
  }
  if (isDay(today) && minute >= begin && (overnight || minute < end)) return endAt(overnight ? today + dayMs : today)
  if (overnight && isDay(today - dayMs) && minute < end) return endAt(today)
  return undefined
}

/**
 * Answers for many readers at about one moment: what a clock shows in a zone costs a hundred microseconds, and most readers
 * share a few zones.
 */
export class QuietClock {
  readonly #windows: readonly QuietWindow[]
  readonly #atMs: number
  readonly #known = new Map<string, QuietVerdict>()

  constructor(windows: readonly QuietWindow[], atMs: number) {
    this.#windows = windows
    this.#atMs = atMs
  }

  /** @param own what a person asks for, beside the app’s */
  verdict(zone: string, own: readonly QuietWindow[] = []): QuietVerdict {
    if (this.#windows.length === 0 && own.length === 0) return open
    const name = own.length === 0 ? zone : `${zone} ${JSON.stringify(own)}`
    const known = this.#known.get(name)
    if (known) return known
    const verdict = quietVerdict([...this.#windows, ...own], zone, this.#atMs)
    this.#known.set(name, verdict)
    return verdict
  }
}

const open: QuietVerdict = { is: 'open' }

/** What of a person’s own quiet hours holds for a notification: all but what is urgent, whatever its channel says. */
export const ownQuietFor = (own: readonly QuietWindow[], { mode, urgency }: Covered): readonly QuietWindow[] =>
  own.filter((window) => covers({ belowUrgency: belowOf(window) }, { mode, urgency, channel: null }))

/** Those who waited ring over so many seconds: a few at once, many over five minutes, so that their end is no wall. */
export const quietSpreadSeconds = (devices: number): number => Math.min(300, Math.floor(devices / 10))
