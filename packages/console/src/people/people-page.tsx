import { useQuery } from '@tanstack/react-query'
import type { Person } from '@zbell/contract'
import { type Direction, type PersonSort, personSorts, sayValue } from '@zbell/contract/words'
import { useMemo } from 'react'
import { Link } from 'react-router'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { type Column, DataTable } from '../parts/data-table.tsx'
import { Exports } from '../parts/exports.tsx'
import { FilterBar, TextFilter, useFilters } from '../parts/filters.tsx'
import { Moment } from '../parts/moment.tsx'
import { useOrder } from '../parts/order.ts'
import { Empty, Loaded, Page, Pager } from '../parts/page.tsx'

const person: Column<Person, PersonSort> = {
  name: 'user',
  title: 'Person',
  sort: 'user',
  always: true,
  cell: ({ user }) => (
    <Link to={`/people/${encodeURIComponent(user ?? '')}`}>
      <bdi>{user}</bdi>
    </Link>
  ),
}
const others: readonly Column<Person, PersonSort>[] = [
  { name: 'devices', title: 'Devices', sort: 'devices', align: 'end', cell: (one) => one.devices },
  { name: 'topics', title: 'Topics', sort: 'topics', cell: (one) => one.topics.join(', ') || '–' },
  {
    name: 'changedAt',
    title: 'Changed',
    sort: 'changedAt',
    hidden: true,
    wide: true,
    cell: (one) => <Moment at={one.changedAt} />,
  },
  {
    name: 'createdAt',
    title: 'First seen',
    sort: 'createdAt',
    wide: true,
    cell: (one) => <Moment at={one.createdAt} />,
  },
]

export function PeoplePage() {
  const place = usePlace()
  const { search, topic, after, set, goOn } = useFilters('search', 'topic')
  const attributes = useQuery({
    queryKey: [...keys.people(place), 'attributes'],
    queryFn: () => place.call('listAttributes'),
  })
  const names = attributes.data?.items
  const columns = useMemo<readonly Column<Person, PersonSort>[]>(
    () => [
      person,
      ...(names ?? []).map(({ name }, i) => ({
        name: `attribute.${name}`,
        title: name,
        sort: `attribute.${name}` as const,
        cell: (one: Person) => <bdi>{sayValue(one.attributes[name])}</bdi>,
        hidden: i >= 2,
        wide: true,
      })),
      ...others,
    ],
    [names],
  )
  const sorts = {
    ...personSorts,
    ...Object.fromEntries((names ?? []).map(({ name }) => [`attribute.${name}`, 'ascending'])),
  } as Record<PersonSort, Direction>
  const order = useOrder<PersonSort>('createdAt', sorts)
  const { sort, direction } = order
  const { data, error, refetch } = useQuery({
    queryKey: [...keys.people(place), search, topic, sort, direction, after ?? ''],
    queryFn: () =>
      place.call('listUsers', {
        query: {
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
  const filters = (
    <FilterBar set={[search, topic].filter(Boolean).length}>
      <TextFilter
        label="Name begins with"
        value={search}
        example="ada"
        onChange={(text) => set('search', text.trim())}
      />
      <Exports what="users" />
    </FilterBar>
  )
  return (
    <Page title="People" asks={topic ? `Who follows ${topic}?` : 'Who are they, and what is known of them?'}>
      <Loaded of={{ data, error }} onAgain={() => void refetch()}>
        {(data) =>
          data.items.length === 0 && !search && !topic ? (
            <Empty
              what="A person is here as soon as a device names them, or your server says something of them."
              example={'zbell user set ada homePier="Lantern Quay" trips=12'}
            />
          ) : (
            <DataTable
              label="People"
              name="people"
              rows={data.items}
              idOf={(one) => one.user ?? ''}
              columns={columns}
              order={order}
              tools={filters}
              none="Nobody fits this."
            />
          )
        }
      </Loaded>
      <Pager next={data?.next} after={after} onGo={goOn} />
    </Page>
  )
}
