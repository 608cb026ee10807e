import { keepPreviousData, useQuery } from '@tanstack/react-query'
import type { Notification } from '@zbell/contract'
import { sayTarget } from '@zbell/contract/words'
import { useState } from 'react'
import { Link } from 'react-router'
import { api } from '../app/api.ts'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { Exports } from '../parts/exports.tsx'
import { Moment } from '../parts/moment.tsx'
import { Empty, Failure, Page, Pager, primary, Waiting } from '../parts/page.tsx'
import { TotalsBar } from '../parts/states.tsx'
import { inWords } from './in-words.ts'

export function ActivityPage() {
  const place = usePlace()
  const [after, setAfter] = useState<string>()
  const [search, setSearch] = useState('')
  const [user, setUser] = useState('')
  const [reason, setReason] = useState('')
  const filters = { ...(search ? { search } : {}), ...(user ? { user } : {}), ...(reason ? { reason } : {}) }
  const { data, error } = useQuery({
    queryKey: [...keys.notifications(place), after ?? '', search, user, reason],
    placeholderData: keepPreviousData,
    queryFn: () =>
      api.call('listNotifications', {
        params: { app: place.app.slug },
        query: { environment: place.environment, limit: 25, ...filters, ...(after ? { after } : {}) },
      }),
  })
  return (
    <Page
      title="Activity"
      asks="What was sent, and how far did it get?"
      action={
        <Link to="/write" className={primary}>
          Write a notification
        </Link>
      }
    >
      <search className="mb-4 flex flex-wrap items-end gap-4">
        <Filter
          label="Search"
          value={search}
          example="storm"
          onChange={(text) => {
            setAfter(undefined)
            setSearch(text)
          }}
        />
        <Filter
          label="Person"
          value={user}
          example="ada"
          onChange={(text) => {
            setAfter(undefined)
            setUser(text)
          }}
        />
        <Reasons
          chosen={reason}
          onChoose={(code) => {
            setAfter(undefined)
            setReason(code)
          }}
        />
        <Exports what="notifications" filters={filters} />
      </search>
      {error ? (
        <Failure error={error} />
      ) : !data ? (
        <Waiting />
      ) : data.items.length === 0 && (search || user || reason) ? (
        <p className="text-soft">Nothing that was sent fits.</p>
      ) : (
        <List items={data.items} />
      )}
      <Pager
        next={data?.next ?? null}
        onNext={() => setAfter(data?.next ?? undefined)}
        {...(after ? { onFirst: () => setAfter(undefined) } : {})}
      />
    </Page>
  )
}

function Filter({
  label,
  value,
  example,
  onChange,
}: {
  readonly label: string
  readonly value: string
  readonly example: string
  readonly onChange: (text: string) => void
}) {
  return (
    <label className="grid text-sm text-soft">
      {label}
      <input className="w-48" value={value} placeholder={example} onChange={(e) => onChange(e.target.value)} />
    </label>
  )
}

/** Why nobody saw something of late: those reasons, and not the whole catalogue. */
function Reasons({ chosen, onChoose }: { readonly chosen: string; readonly onChoose: (code: string) => void }) {
  const place = usePlace()
  const { app, environment } = place
  const { data } = useQuery({
    queryKey: keys.days(place, reasonDays),
    queryFn: () => api.call('listDays', { params: { app: app.slug }, query: { environment, days: reasonDays } }),
  })
  const says = new Map(data?.items.flatMap(({ reasons }) => reasons.map((one) => [one.code, one.says])))
  if (says.size === 0 && chosen === '') return null
  return (
    <label className="grid text-sm text-soft">
      Not seen because
      <select className="w-64" value={chosen} onChange={(e) => onChoose(e.target.value)}>
        <option value="">whatever became of it</option>
        {[...says].map(([code, sentence]) => (
          <option key={code} value={code}>
            {sentence}
          </option>
        ))}
      </select>
    </label>
  )
}

const reasonDays = 14

function List({ items }: { readonly items: readonly Notification[] }) {
  if (items.length === 0) {
    return (
      <Empty
        what="Every notification that is sent to this app in this environment appears here while it goes, with what became of each device."
        example={'zbell send --to user:ada --title "Boarding is open"'}
      >
        <Link to="/write" className={primary}>
          Write the first one
        </Link>
      </Empty>
    )
  }
  return (
    <table className="w-full max-md:block">
      <thead className="max-md:sr-only">
        <tr>
          <th scope="col">Notification</th>
          <th scope="col" className="max-md:hidden">
            To
          </th>
          <th scope="col" className="max-md:hidden">
            Sent
          </th>
          <th scope="col" className="w-2/5 pe-0">
            What became of it
          </th>
        </tr>
      </thead>
      <tbody className="max-md:block">
        {items.map((one) => (
          <tr key={one.id} className="max-md:block max-md:pb-3">
            <td className="max-w-72 max-md:block max-md:max-w-none max-md:pb-0">
              <Link to={`/activity/${one.id}`} className="font-semibold">
                <bdi>{one.shows.title || 'Wakes the app'}</bdi>
              </Link>
              {one.shows.body && (
                <p className="truncate text-sm text-soft">
                  <bdi>{one.shows.body}</bdi>
                </p>
              )}
              <p className="text-sm text-soft md:hidden">
                <Moment at={one.createdAt} />
              </p>
            </td>
            <td className="max-w-44 truncate font-mono text-sm leading-6 max-md:hidden">{sayTarget(one.to)}</td>
            <td className="text-sm leading-6 max-md:hidden">
              <Moment at={one.createdAt} />
            </td>
            <td className="pe-0 max-md:block max-md:py-0">
              <div className="pt-2.5 pb-1">
                <TotalsBar totals={one.totals} />
              </div>
              <p className="text-sm text-soft">{inWords(one)}</p>
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  )
}
