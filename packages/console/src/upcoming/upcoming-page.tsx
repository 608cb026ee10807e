import { useQuery } from '@tanstack/react-query'
import type { Upcoming } from '@zbell/contract'
import { Link } from 'react-router'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { ActionLink } from '../parts/button.tsx'
import { useFilters } from '../parts/filters.tsx'
import { ownZone } from '../parts/moment.tsx'
import { Empty, Failure, Page, Waiting } from '../parts/page.tsx'
import { Segments } from '../parts/toggles.tsx'
import { CalendarFeed } from './calendar-feed.tsx'
import { clockOf, dayKeyOf, type Item, sayReach, titleOf, toOf } from './coming.ts'
import { Fortnight } from './fortnight.tsx'
import { ScheduleTable } from './schedule-table.tsx'

const days = 14
const views = ['agenda', 'days', 'schedules'] as const

/** What rings in the next two weeks, as an agenda and as days, and the schedules that make it ring. */
export function UpcomingPage() {
  const place = usePlace()
  const { view: chosen, set } = useFilters('view')
  const view = views.find((one) => one === chosen) ?? 'agenda'
  return (
    <Page
      title="Upcoming"
      asks="What will ring, and when?"
      action={
        <ActionLink to="/write" rank="primary">
          Write a notification
        </ActionLink>
      }
    >
      <div className="mb-8 flex flex-wrap items-center justify-between gap-4">
        <div className="w-80">
          <Segments label="View" value={view} options={views} onChange={(now) => set('view', now)} />
        </div>
        <CalendarFeed key={place.environment} />
      </div>
      {view === 'schedules' ? <ScheduleTable /> : <Coming key={place.environment} as={view} />}
    </Page>
  )
}

function Coming({ as }: { readonly as: 'agenda' | 'days' }) {
  const place = usePlace()
  const { data, error } = useQuery({
    queryKey: [...keys.schedules(place), 'upcoming'],
    queryFn: () => place.call('listUpcoming', { query: { days, reach: 'true' } }),
    refetchInterval: 30_000,
  })
  if (error) return <Failure error={error} />
  if (!data) return <Waiting />
  if (data.items.length === 0)
    return (
      <Empty
        what={`Nothing rings within the next ${days} days. A notification can wait for its hour, and a schedule rings again and again; both are found, stopped and changed by their name.`}
        example={'zbell send --to topic:weather --title "Storm tonight" --at "tomorrow 18:00"'}
      >
        <ActionLink to="/write">Write one</ActionLink>
      </Empty>
    )
  return (
    <>
      <p className="mb-6 text-sm text-soft">
        Times by your clock, {ownZone}; what rings by each reader’s clock stands at that hour of theirs. How many each
        would ring is counted as of now.
      </p>
      {as === 'agenda' ? <Agenda items={data.items} /> : <Fortnight items={data.items} days={days} />}
      {data.cut && <p className="mt-6 text-sm text-soft">There is more than is listed here.</p>}
    </>
  )
}

const dayName = new Intl.DateTimeFormat('en-GB', { weekday: 'long', day: 'numeric', month: 'long', timeZone: 'UTC' })

function Agenda({ items }: { readonly items: Upcoming['items'] }) {
  const byDay = new Map<string, Item[]>()
  for (const item of items) byDay.set(dayKeyOf(item), [...(byDay.get(dayKeyOf(item)) ?? []), item])
  return (
    <div className="grid max-w-4xl gap-8">
      {[...byDay]
        .sort(([a], [b]) => (a < b ? -1 : 1))
        .map(([day, own]) => {
          const name = dayName.format(new Date(`${day}T00:00:00Z`))
          return (
            <section key={day} aria-label={name}>
              <h2 className="mb-1">{name}</h2>
              <ol>
                {own
                  .sort((a, b) => (clockOf(a) < clockOf(b) ? -1 : 1))
                  .map((item) => (
                    <Line key={`${item.schedule ?? item.notification} ${item.dueAt}`} item={item} />
                  ))}
              </ol>
            </section>
          )
        })}
    </div>
  )
}

function Line({ item }: { readonly item: Item }) {
  const { dueAt, schedule, name, shows, paused, readersHour, channel } = item
  return (
    <li className="grid grid-cols-[4rem_1fr_auto] items-baseline gap-3 border-t border-line py-2">
      <time dateTime={dueAt}>{clockOf(item)}</time>
      <span className="min-w-0">
        <Link to={toOf(item)} className="font-semibold break-words">
          <bdi>{titleOf(item)}</bdi>
        </Link>
        {shows.body && (
          <span className="block truncate text-sm text-soft">
            <bdi>{shows.body}</bdi>
          </span>
        )}
        <span className="block text-sm text-soft">
          {[schedule ?? name ?? 'once', channel, readersHour !== null && 'each reader’s clock', paused && 'paused']
            .filter(Boolean)
            .join(' · ')}
        </span>
      </span>
      <span className="text-sm text-soft">{sayReach(item)}</span>
    </li>
  )
}
