import { useMutation, useQueryClient } from '@tanstack/react-query'
import { type FormEvent, useState } from 'react'
import { api } from '../app/api.ts'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { Button } from '../parts/button.tsx'
import { Failure } from '../parts/page.tsx'

/** What somebody follows; they can be let in and out from here. */
export function Follows({ user, topics }: { readonly user: string; readonly topics: readonly string[] }) {
  const place = usePlace()
  const client = useQueryClient()
  const [topic, setTopic] = useState('')
  const change = useMutation({
    mutationFn: ({ name, joins }: { readonly name: string; readonly joins: boolean }) =>
      api.call(joins ? 'joinTopic' : 'leaveTopic', {
        params: { app: place.app.slug, topic: name },
        query: { environment: place.environment },
        body: { users: [user] },
      }),
    onSuccess: () => {
      setTopic('')
      return Promise.all([
        client.invalidateQueries({ queryKey: keys.people(place) }),
        client.invalidateQueries({ queryKey: keys.topics(place) }),
      ])
    },
  })
  const submit = (event: FormEvent) => {
    event.preventDefault()
    change.mutate({ name: topic.trim(), joins: true })
  }
  return (
    <>
      <ul className="mt-2">
        {topics.map((name) => (
          <li key={name} className="flex items-center justify-between gap-4 border-t border-line py-1.5">
            <span className="font-mono text-sm">{name}</span>
            <button
              type="button"
              className="cursor-pointer text-sm underline underline-offset-4"
              onClick={() => change.mutate({ name, joins: false })}
            >
              Let them leave {name}
            </button>
          </li>
        ))}
      </ul>
      {topics.length === 0 && <p className="text-soft">None joined.</p>}
      <form onSubmit={submit} noValidate className="mt-3 flex items-end gap-3">
        <label className="grid flex-1 text-sm text-soft">
          Let them follow
          <input value={topic} className="font-mono" placeholder="route-4" onChange={(e) => setTopic(e.target.value)} />
        </label>
        <Button type="submit" disabled={change.isPending || topic.trim() === ''}>
          Join
        </Button>
      </form>
      {change.error && <Failure error={change.error} />}
    </>
  )
}
