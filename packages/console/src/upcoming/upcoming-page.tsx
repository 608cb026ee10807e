import { useQuery } from '@tanstack/react-query'
import type { Upcoming } from '@zbell/contract'
import { Link } from 'react-router'
import { api } from '../app/api.ts'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { ActionLink } from '../parts/button.tsx'
import { useFilters } from '../parts/filters.tsx'
import { ownZone } from '../parts/moment.tsx'
import { Empty, Failure, Page, Waiting } from '../parts/page.tsx'
import { Segments } from '../parts/toggles.tsx'
import { ScheduleTable } from './schedule-table.tsx'

type Item = Upcoming['items'][number]

const days = 14
const views = ['agenda', 'schedules'] as const

/** What rings in the next two weeks, day by day, and the schedules that make it ring. */
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
      <div className="mb-8 max-w-xs">
        <Segments label="View" value={view} options={views} onChange={(now) => set('view', now)} />
      </div>
      {view === 'agenda' ? <Agenda key={place.environment} /> : <ScheduleTable />}
    </Page>
  )
}

function Agenda() {
  const place = usePlace()
  const { data, error } = useQuery({
    queryKey: [...keys.schedules(place), 'upcoming'],
    queryFn: () =>
      api.call('listUpcoming', {
        params: { app: place.app.slug },
        query: { environment: place.environment, days },
      }),
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
    <div className="grid max-w-4xl gap-8">
      <p className="text-sm text-soft">Times by your clock, {ownZone}.</p>
      {byDay(data.items).map(([day, items]) => (
        <section key={day} aria-label={day}>
          <h2 className="mb-1">{day}</h2>
          <ol>
            {items.map((item) => (
              <Line key={`${item.schedule ?? item.notification} ${item.dueAt}`} item={item} />
            ))}
          </ol>
        </section>
      ))}
      {data.cut && <p className="text-sm text-soft">There is more than is listed here.</p>}
    </div>
  )
}

const dayOf = new Intl.DateTimeFormat('en-GB', { weekday: 'long', day: 'numeric', month: 'long' })
const clock = new Intl.DateTimeFormat('en-GB', { hour: '2-digit', minute: '2-digit' })

function byDay(items: readonly Item[]): [string, Item[]][] {
  const days = new Map<string, Item[]>()
  for (const item of items) {
    const day = dayOf.format(new Date(item.dueAt))
    days.set(day, [...(days.get(day) ?? []), item])
  }
  return [...days]
}

function Line({ item }: { readonly item: Item }) {
  const { dueAt, schedule, notification, name, shows, paused, readersHour } = item
  const to = schedule === null ? `/activity/${notification}` : `/upcoming/${schedule}`
  return (
    <li className="grid grid-cols-[4rem_1fr_auto] items-baseline gap-3 border-t border-line py-2">
      <time dateTime={dueAt}>{readersHour?.slice(11, 16) ?? clock.format(new Date(dueAt))}</time>
      <span className="min-w-0">
        <Link to={to} className="font-semibold break-words">
          <bdi>{shows.title || 'Wakes the app'}</bdi>
        </Link>
        {shows.body && (
          <span className="block truncate text-sm text-soft">
            <bdi>{shows.body}</bdi>
          </span>
        )}
      </span>
      <span className="text-sm text-soft">
        {paused && 'paused · '}
        {readersHour !== null &&
          `${readersHour.slice(11, 16)} each reader’s clock, from ${clock.format(new Date(dueAt))} on · `}
        {schedule === null ? (name ?? 'once') : schedule}
      </span>
    </li>
  )
}
