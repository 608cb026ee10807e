import { useQuery, useQueryClient } from '@tanstack/react-query'
import type { Topic } from '@zbell/contract'
import { topicDeclaration } from '@zbell/contract/forms'
import { Link } from 'react-router'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { ActionLink } from '../parts/button.tsx'
import { type Column, DataTable } from '../parts/data-table.tsx'
import { Exports } from '../parts/exports.tsx'
import { FilterBar, TextFilter, useFilters } from '../parts/filters.tsx'
import { Form, TextInput, useRequestForm } from '../parts/form.tsx'
import { useOrder } from '../parts/order.ts'
import { Empty, Loaded, Page } from '../parts/page.tsx'

export function TopicsPage() {
  const place = usePlace()
  const { data, error } = useQuery({
    queryKey: keys.topics(place),
    queryFn: () => place.all('listTopics'),
  })
  return (
    <Page title="Topics" asks="What can people follow, and how many do?" action={<Exports what="topics" />}>
      <Loaded of={{ data, error }}>{(data) => <List items={data} />}</Loaded>
      <Declare />
    </Page>
  )
}

type TopicSort = 'topic' | 'users' | 'devices'
const sorts = { topic: 'ascending', users: 'descending', devices: 'descending' } as const

/** All of them are here, so the page puts them in order itself. */
function compare(a: Topic, b: Topic, sort: TopicSort): number {
  const byName = a.topic < b.topic ? -1 : 1
  return sort === 'topic' ? byName : a[sort] - b[sort] || byName
}

const columns: readonly Column<Topic, TopicSort>[] = [
  {
    name: 'topic',
    title: 'Topic',
    sort: 'topic',
    always: true,
    cell: ({ topic, title, declared }) => (
      <>
        <span className="font-mono text-sm break-all">{topic}</span>
        <span className="block text-sm text-soft">
          <bdi>{title ?? (declared ? 'declared' : 'made by whoever joined first')}</bdi>
        </span>
      </>
    ),
  },
  {
    name: 'users',
    title: 'People',
    sort: 'users',
    align: 'end',
    always: true,
    cell: ({ topic, users }) => <Link to={`/people?topic=${topic}`}>{users.toLocaleString('en')}</Link>,
  },
  {
    name: 'devices',
    title: 'Devices by themselves',
    sort: 'devices',
    align: 'end',
    wide: true,
    cell: ({ devices }) => devices.toLocaleString('en'),
  },
  {
    name: 'ring',
    title: 'Actions',
    always: true,
    align: 'end',
    cell: ({ topic }) => (
      <ActionLink to={`/write?to=topic:${topic}`} rank="quiet">
        Ring
      </ActionLink>
    ),
  },
]

function List({ items }: { readonly items: readonly Topic[] }) {
  const { search, set } = useFilters('search')
  const order = useOrder<TopicSort>('topic', sorts)
  const sign = order.direction === 'ascending' ? 1 : -1
  const wanted = search.toLowerCase()
  const fitting = items.filter(({ topic, title }) => `${topic} ${title ?? ''}`.toLowerCase().includes(wanted))
  const sorted = fitting.sort((a, b) => sign * compare(a, b, order.sort))
  if (items.length === 0) {
    return (
      <Empty
        what="A topic is a list that people and devices join and leave by themselves. The first to join one makes it; declare those that you name in the app."
        example={"bell.topics.join('route-4')      // in the app\nzbell send --to topic:route-4 --title …"}
      />
    )
  }
  return (
    <DataTable
      label="Topics"
      name="topics"
      rows={sorted}
      idOf={(one) => one.topic}
      columns={columns}
      order={order}
      tools={
        <FilterBar set={search === '' ? 0 : 1}>
          <TextFilter label="Search" value={search} example="route" onChange={(text) => set('search', text)} />
        </FilterBar>
      }
      none="No topic fits."
    />
  )
}

function Declare() {
  const place = usePlace()
  const client = useQueryClient()
  const filled = useRequestForm({
    schema: topicDeclaration,
    first: { topic: '', title: '' },
    requestOf: ({ topic, title }) => ({ topic: topic.trim(), title: title.trim() || null }),
  })
  return (
    <Form
      of={filled}
      submit="Declare it"
      clears
      className="mt-12 max-w-xl"
      onSubmit={async ({ topic, ...body }) => {
        const params = { topic }
        await place.call('declareTopic', { params, body })
        await client.invalidateQueries({ queryKey: keys.topics(place) })
      }}
    >
      <h2>Declare a topic</h2>
      <div className="grid gap-4 sm:grid-cols-2">
        <TextInput
          of={filled}
          name="topic"
          label="Topic"
          hint="Small letters, digits, hyphens and dots"
          code
          placeholder="route-4"
        />
        <TextInput
          of={filled}
          name="title"
          label="Title"
          hint="What people call it"
          placeholder="Brackenholm – Farrow Isle"
        />
      </div>
    </Form>
  )
}
