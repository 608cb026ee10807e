import { keepPreviousData, useQuery } from '@tanstack/react-query'
import type { Notification } from '@zbell/contract'
import { sayTarget } from '@zbell/contract/words'
import { PenLine } from 'lucide-react'
import { Link } from 'react-router'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { ChannelFilter } from '../channels/channel-filter.tsx'
import { ActionLink } from '../parts/button.tsx'
import { type Column, DataTable } from '../parts/data-table.tsx'
import { Exports } from '../parts/exports.tsx'
import { ChoiceFilter, FilterBar, TextFilter, useFilters } from '../parts/filters.tsx'
import { Moment } from '../parts/moment.tsx'
import { Empty, Loaded, Page, Pager } from '../parts/page.tsx'
import { TotalsBar } from '../parts/states.tsx'
import { inWords } from './in-words.ts'

const columns: readonly Column<Notification>[] = [
  {
    name: 'notification',
    title: 'Notification',
    always: true,
    cell: ({ id, shows, createdAt }) => (
      <div className="max-w-80 min-w-40">
        <Link to={`/activity/${id}`} className="font-semibold">
          <bdi>{shows.title || 'Wakes the app'}</bdi>
        </Link>
        {shows.body && (
          <p className="line-clamp-1 text-sm break-all text-soft">
            <bdi>{shows.body}</bdi>
          </p>
        )}
        <p className="text-sm text-soft md:hidden">
          <Moment at={createdAt} />
        </p>
      </div>
    ),
  },
  {
    name: 'to',
    title: 'To',
    wide: true,
    cell: ({ to }) => <p className="max-w-44 truncate font-mono text-sm leading-6">{sayTarget(to)}</p>,
  },
  {
    name: 'sent',
    title: 'Sent',
    wide: true,
    cell: ({ createdAt }) => (
      <span className="text-sm leading-6">
        <Moment at={createdAt} />
      </span>
    ),
  },
  {
    name: 'outcome',
    title: 'Result',
    always: true,
    cell: (one) => (
      <div className="min-w-36">
        <div className="pt-2.5 pb-1">
          <TotalsBar totals={one.totals} />
        </div>
        <p className="text-sm text-soft">{inWords(one)}</p>
      </div>
    ),
  },
]

export function ActivityPage() {
  const place = usePlace()
  const { search, user, reason, channel, after, set, goOn } = useFilters('search', 'user', 'reason', 'channel')
  const filters = Object.fromEntries(
    Object.entries({ search, user, reason, channel }).filter(([, text]) => text !== ''),
  )
  const { data, error, refetch } = useQuery({
    queryKey: [...keys.notifications(place), after ?? '', search, user, reason, channel],
    placeholderData: keepPreviousData,
    queryFn: () => place.call('listNotifications', { query: { limit: 25, ...filters, ...(after ? { after } : {}) } }),
  })
  const bar = (
    <FilterBar set={Object.keys(filters).length}>
      <TextFilter label="Search" value={search} example="storm" onChange={(text) => set('search', text)} />
      <TextFilter label="Person" value={user} example="ada" onChange={(text) => set('user', text.trim())} />
      <Reasons chosen={reason} onChoose={(code) => set('reason', code)} />
      <ChannelFilter chosen={channel} onChoose={(name) => set('channel', name)} />
    </FilterBar>
  )
  return (
    <Page
      title="Activity"
      asks="What was sent, and how far did it get?"
      action={
        <div className="flex flex-wrap items-center gap-x-6 gap-y-2">
          <Exports what="notifications" filters={filters} />
          <ActionLink to="/write" rank="primary" icon={PenLine}>
            Write a notification
          </ActionLink>
        </div>
      }
    >
      <Loaded of={{ data, error }} onAgain={() => void refetch()}>
        {(data) =>
          data.items.length === 0 && Object.keys(filters).length === 0 ? (
            <Empty
              what="Every notification that is sent to this app in this environment appears here while it goes, with what became of each device."
              example={'zbell send --to user:ada --title "Boarding is open"'}
            >
              <ActionLink to="/write">Write the first one</ActionLink>
            </Empty>
          ) : (
            <DataTable
              label="Notifications"
              name="activity"
              rows={data.items}
              idOf={(one) => one.id}
              columns={columns}
              tools={bar}
              none="Nothing that was sent fits."
            />
          )
        }
      </Loaded>
      <Pager next={data?.next} after={after} onGo={goOn} />
    </Page>
  )
}

/** Why nobody saw something of late: those reasons, and not the whole catalogue. */
function Reasons({ chosen, onChoose }: { readonly chosen: string; readonly onChoose: (code: string) => void }) {
  const place = usePlace()
  const { data } = useQuery({
    queryKey: keys.days(place, reasonDays),
    queryFn: () => place.call('listDays', { query: { days: reasonDays } }),
  })
  const says = new Map(data?.items.flatMap(({ reasons }) => reasons.map((one) => [one.code, one.detail])))
  if (says.size === 0 && chosen === '') return null
  return (
    <ChoiceFilter
      label="Not seen because"
      value={chosen}
      options={[
        { value: '', label: 'whatever became of it' },
        ...[...says].map(([value, label]) => ({ value, label })),
      ]}
      onChange={onChoose}
    />
  )
}

const reasonDays = 14
