import { useMutation, useQueryClient } from '@tanstack/react-query'
import { topicJoin } from '@zbell/contract/forms'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { Button } from '../parts/button.tsx'
import { Form, TextInput, useRequestForm } from '../parts/form.tsx'
import { Failure } from '../parts/page.tsx'

/** What somebody follows; they can be let in and out from here. */
export function Follows({ user, topics }: { readonly user: string; readonly topics: readonly string[] }) {
  const place = usePlace()
  const client = useQueryClient()
  const change = useMutation({
    mutationFn: ({ name, joins }: { readonly name: string; readonly joins: boolean }) =>
      place.call(joins ? 'joinTopic' : 'leaveTopic', { params: { topic: name }, body: { users: [user] } }),
    onSuccess: () =>
      Promise.all([
        client.invalidateQueries({ queryKey: keys.people(place) }),
        client.invalidateQueries({ queryKey: keys.topics(place) }),
      ]),
  })
  const filled = useRequestForm({
    schema: topicJoin,
    first: { topic: '' },
    requestOf: ({ topic }) => ({ topic: topic.trim(), users: [user] }),
  })
  return (
    <>
      <ul className="mt-2">
        {topics.map((name) => (
          <li key={name} className="flex items-center justify-between gap-4 border-t border-line py-1.5">
            <span className="font-mono text-sm">{name}</span>
            <Button
              rank="quiet"
              className="text-sm"
              disabled={change.isPending}
              onClick={() => change.mutate({ name, joins: false })}
            >
              Let them leave {name}
            </Button>
          </li>
        ))}
      </ul>
      {topics.length === 0 && <p className="text-soft">None joined.</p>}
      <Form
        of={filled}
        submit="Join"
        clears
        className="mt-4"
        onSubmit={({ topic }) => change.mutateAsync({ name: topic, joins: true })}
      >
        <TextInput of={filled} name="topic" label="Let them follow" hint="A topic" code placeholder="route-4" />
      </Form>
      {change.error && !change.variables?.joins && <Failure error={change.error} />}
    </>
  )
}
