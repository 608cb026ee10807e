import { Link } from 'react-router'
import { clockOf, dayKey, dayKeyOf, type Item, sayReach, titleOf, toOf } from './coming.ts'

const weekday = new Intl.DateTimeFormat('en-GB', { weekday: 'short' })
const date = new Intl.DateTimeFormat('en-GB', { day: 'numeric', month: 'short' })

/** So many of a day are shown. */
const shown = 6

/** The next two weeks as days, from Monday to Sunday. */
export function Fortnight({ items, days }: { readonly items: readonly Item[]; readonly days: number }) {
  const today = new Date()
  const sinceMonday = (today.getDay() + 6) % 7
  const weeks = Math.ceil((sinceMonday + days) / 7)
  const last = dayKey(dayAfter(today, days))
  const of = (key: string) =>
    items.filter((item) => dayKeyOf(item) === key).sort((a, b) => (clockOf(a) < clockOf(b) ? -1 : 1))
  return (
    <ol className="grid grid-cols-[minmax(0,1fr)] gap-px overflow-hidden rounded-float border border-line bg-line sm:grid-cols-2 lg:grid-cols-7">
      {Array.from({ length: weeks * 7 }, (_, n) => {
        const day = dayAfter(today, n - sinceMonday)
        const key = dayKey(day)
        const out = key < dayKey(today) || key > last
        return <Day key={key} day={day} isToday={n === sinceMonday} out={out} items={out ? [] : of(key)} />
      })}
    </ol>
  )
}

function dayAfter(from: Date, days: number): Date {
  const day = new Date(from)
  day.setDate(day.getDate() + days)
  return day
}

type DayProps = {
  readonly day: Date
  readonly isToday: boolean
  /** Not among the days that were asked for. */
  readonly out: boolean
  readonly items: readonly Item[]
}

function Day({ day, isToday, out, items }: DayProps) {
  return (
    <li className={`min-h-28 p-2.5 ${out ? 'bg-sunken max-lg:hidden' : 'bg-surface'}`}>
      <p className={`text-sm ${isToday ? 'font-semibold text-brass' : 'text-soft'}`}>
        {isToday ? 'Today,' : weekday.format(day)} {date.format(day)}
      </p>
      <ul className="mt-1.5 grid gap-1.5">
        {items.slice(0, shown).map((item) => (
          <li key={`${item.schedule ?? item.notification} ${item.dueAt}`} className="text-sm leading-tight">
            <Link to={toOf(item)} className="break-words">
              <time dateTime={item.dueAt} className="font-semibold">
                {clockOf(item)}
              </time>{' '}
              <bdi>{titleOf(item)}</bdi>
            </Link>
            <span className="block text-xs text-soft">
              {item.paused ? 'paused' : sayReach(item)}
              {item.readersHour !== null && ', each one’s clock'}
            </span>
          </li>
        ))}
        {items.length > shown && <li className="text-xs text-soft">and {items.length - shown} more</li>}
      </ul>
    </li>
  )
}
