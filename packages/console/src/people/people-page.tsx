import { useQuery } from '@tanstack/react-query'
import type { Person } from '@zbell/contract'
import { type PersonColumn, type PersonSort, personSorts, sayValue } from '@zbell/contract/words'
import { useState } from 'react'
import { Link, useSearchParams } from 'react-router'
import { api } from '../app/api.ts'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { type Column, Columns, useColumns } from '../parts/columns.tsx'
import { Exports } from '../parts/exports.tsx'
import { Moment } from '../parts/moment.tsx'
import { OrderedHead, useOrder } from '../parts/order.tsx'
import { Empty, Failure, Page, Pager, Waiting } from '../parts/page.tsx'

const always: readonly Column<Person, PersonSort>[] = [
  { name: 'devices', title: 'Devices', cell: (one) => one.devices, preset: true },
  { name: 'topics', title: 'Topics', cell: (one) => one.topics.join(', ') || '–', preset: true },
  { name: 'changedAt', title: 'Changed', cell: (one) => <Moment at={one.changedAt} />, preset: false },
  { name: 'createdAt', title: 'First seen', cell: (one) => <Moment at={one.createdAt} />, preset: true },
]

const isColumn = (name: PersonSort): name is PersonColumn => name in personSorts
const directionOf = (name: PersonSort) => (isColumn(name) ? personSorts[name] : 'ascending')

export function PeoplePage() {
  const place = usePlace()
  const [params] = useSearchParams()
  const topic = params.get('topic')
  const [search, setSearch] = useState('')
  const [after, setAfter] = useState<string>()
  const order = useOrder<PersonSort>('createdAt', directionOf, () => setAfter(undefined))
  const { sort, direction } = order
  const at = { params: { app: place.app.slug }, query: { environment: place.environment } }
  const { data, error } = useQuery({
    queryKey: [...keys.people(place), search, topic, sort, direction, after ?? ''],
    queryFn: () =>
      api.call('listUsers', {
        ...at,
        query: {
          ...at.query,
          limit: 50,
          sort,
          direction,
          ...(search ? { search } : {}),
          ...(topic ? { topic } : {}),
          ...(after ? { after } : {}),
        },
      }),
    placeholderData: (before) => before,
  })
  const attributes = useQuery({
    queryKey: [...keys.people(place), 'attributes'],
    queryFn: () => api.call('listAttributes', at),
  })
  const all: readonly Column<Person, PersonSort>[] = [
    ...(attributes.data?.items ?? []).map(({ name }, i) => ({
      name: `attribute.${name}` as const,
      title: name,
      cell: (one: Person) => sayValue(one.attributes[name]),
      preset: i < 2,
    })),
    ...always,
  ]
  const columns = useColumns('people', all)
  return (
    <Page title="People" asks={topic ? `Who follows ${topic}?` : 'Who are they, and what is known of them?'}>
      <search className="mb-4 flex flex-wrap items-end gap-4">
        <label className="grid text-sm text-soft">
          Name begins with
          <input
            value={search}
            className="w-48"
            placeholder="ada"
            onChange={(event) => {
              setAfter(undefined)
              setSearch(event.target.value.trim())
            }}
          />
        </label>
        <Columns all={all} columns={columns} />
        <Exports what="users" />
      </search>
      {error ? (
        <Failure error={error} />
      ) : !data ? (
        <Waiting />
      ) : data.items.length === 0 ? (
        search || topic ? (
          <p>Nobody fits this.</p>
        ) : (
          <Empty
            what="A person is here as soon as a device names them, or your server says something of them."
            example={'zbell user set ada homePier="Lantern Quay" trips=12'}
          />
        )
      ) : (
        <div className="overflow-x-auto">
          <table className="w-full">
            <thead>
              <tr>
                <OrderedHead title="Person" column="user" order={order} />
                {columns.shown.map(({ name, title }) => (
                  <OrderedHead key={name} title={title} column={name} order={order} />
                ))}
              </tr>
            </thead>
            <tbody>
              {data.items.map((one) => (
                <tr key={one.user}>
                  <td>
                    <Link to={`/people/${encodeURIComponent(one.user ?? '')}`}>{one.user}</Link>
                  </td>
                  {columns.shown.map(({ name, cell }) => (
                    <td key={name}>{cell(one)}</td>
                  ))}
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      <Pager
        next={data?.next ?? null}
        onNext={() => setAfter(data?.next ?? undefined)}
        {...(after ? { onFirst: () => setAfter(undefined) } : {})}
      />
    </Page>
  )
}
