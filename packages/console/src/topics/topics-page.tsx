import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import type { Topic } from '@zbell/contract'
import { type FormEvent, useState } from 'react'
import { Link } from 'react-router'
import { api } from '../app/api.ts'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { Exports } from '../parts/exports.tsx'
import { Field } from '../parts/field.tsx'
import { OrderedHead, useOrder } from '../parts/order.tsx'
import { Empty, Failure, Page, secondary, Waiting } from '../parts/page.tsx'

export function TopicsPage() {
  const place = usePlace()
  const { data, error } = useQuery({
    queryKey: keys.topics(place),
    queryFn: () =>
      api.all('listTopics', { params: { app: place.app.slug }, query: { environment: place.environment } }),
  })
  return (
    <Page title="Topics" asks="What can people follow, and how many do?" action={<Exports what="topics" />}>
      {error ? <Failure error={error} /> : data ? <List items={data} /> : <Waiting />}
      <Declare />
    </Page>
  )
}

type TopicSort = 'topic' | 'users' | 'devices'

/** All of them are here, so the page puts them in order itself. */
function compare(a: Topic, b: Topic, sort: TopicSort): number {
  const byName = a.topic < b.topic ? -1 : 1
  return sort === 'topic' ? byName : a[sort] - b[sort] || byName
}

function List({ items }: { readonly items: readonly Topic[] }) {
  const order = useOrder<TopicSort>('topic', (column) => (column === 'topic' ? 'ascending' : 'descending'))
  const sign = order.direction === 'ascending' ? 1 : -1
  const sorted = [...items].sort((a, b) => sign * compare(a, b, order.sort))
  if (items.length === 0) {
    return (
      <Empty
        what="A topic is a list that people and devices join and leave by themselves. The first to join one makes it; declare those that you name in the app."
        example={"bell.topics.join('route-4')      // in the app\nzbell send --to topic:route-4 --title …"}
      />
    )
  }
  return (
    <table className="w-full max-w-4xl">
      <thead>
        <tr>
          <OrderedHead title="Topic" column="topic" order={order} />
          <OrderedHead title="People" column="users" order={order} />
          <OrderedHead title="Devices by themselves" column="devices" order={order} />
          <th scope="col" className="pe-0">
            <span className="sr-only">What to do</span>
          </th>
        </tr>
      </thead>
      <tbody>
        {sorted.map((one) => (
          <tr key={one.topic}>
            <td>
              <span className="font-mono text-sm">{one.topic}</span>
              <span className="block text-sm text-soft">
                {one.title ?? (one.declared ? 'declared' : 'made by whoever joined first')}
              </span>
            </td>
            <td>
              <Link to={`/people?topic=${one.topic}`}>{one.users.toLocaleString('en')}</Link>
            </td>
            <td>{one.devices.toLocaleString('en')}</td>
            <td className="pe-0 text-end">
              <Link to={`/write?to=topic:${one.topic}`} className={secondary}>
                Ring
              </Link>
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  )
}

function Declare() {
  const place = usePlace()
  const client = useQueryClient()
  const [topic, setTopic] = useState('')
  const [title, setTitle] = useState('')
  const declare = useMutation({
    mutationFn: () =>
      api.call('declareTopic', {
        params: { app: place.app.slug, topic: topic.trim() },
        query: { environment: place.environment },
        body: { title: title.trim() || null },
      }),
    onSuccess: () => {
      setTopic('')
      setTitle('')
      return client.invalidateQueries({ queryKey: keys.topics(place) })
    },
  })
  const submit = (event: FormEvent) => {
    event.preventDefault()
    declare.mutate()
  }
  return (
    <form onSubmit={submit} noValidate className="mt-12 grid max-w-xl gap-4">
      <h2>Declare a topic</h2>
      <div className="grid gap-4 sm:grid-cols-2">
        <Field label="Topic" hint="Small letters, digits, hyphens and dots">
          {(props) => (
            <input
              {...props}
              className="font-mono text-sm"
              value={topic}
              placeholder="route-4"
              onChange={(e) => setTopic(e.target.value)}
            />
          )}
        </Field>
        <Field label="Title" hint="What people call it">
          {(props) => (
            <input
              {...props}
              value={title}
              placeholder="Brackenholm – Farrow Isle"
              onChange={(e) => setTitle(e.target.value)}
            />
          )}
        </Field>
      </div>
      {declare.error && <Failure error={declare.error} />}
      <div>
        <button type="submit" className={secondary} disabled={declare.isPending || topic.trim() === ''}>
          Declare it
        </button>
      </div>
    </form>
  )
}
