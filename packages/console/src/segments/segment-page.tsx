import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import type { Segment } from '@zbell/contract'
import { namedSegment } from '@zbell/contract/forms'
import { Controller } from 'react-hook-form'
import { useNavigate, useParams } from 'react-router'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { useSeen } from '../app/seen.ts'
import { ActionLink, Button } from '../parts/button.tsx'
import { Confirm } from '../parts/dialog.tsx'
import { Form, TextInput, useRequestForm } from '../parts/form.tsx'
import { Failure, Page, Waiting } from '../parts/page.tsx'
import { RuleField } from './rule-field.tsx'
import { TryOn } from './try-on.tsx'

/** One segment, or a new one: its rule while it is written, whoever it has, and why somebody belongs. */
export function SegmentPage() {
  const place = usePlace()
  const { name = '' } = useParams()
  // No segment can be called so.
  const isNew = name === '~new'
  const { data, error } = useQuery({
    queryKey: [...keys.segments(place), 'one', name],
    queryFn: () => place.call('readSegment', { params: { segment: name } }),
    enabled: !isNew,
  })
  useSeen('segment', data?.name)
  return (
    <Page
      title={isNew ? 'A new segment' : name}
      asks="Who belongs to it, and why?"
      crumbs={[{ to: '/segments', name: 'Segments' }]}
      action={data && <Acts segment={data} />}
    >
      {error ? <Failure error={error} /> : isNew || data ? <Editing key={name} first={data} /> : <Waiting />}
    </Page>
  )
}

function Acts({ segment: { name } }: { readonly segment: Segment }) {
  const place = usePlace()
  const client = useQueryClient()
  const go = useNavigate()
  const remove = useMutation({
    mutationFn: () => place.call('deleteSegment', { params: { segment: name } }),
    onSuccess: async () => {
      await go('/segments')
      await client.invalidateQueries({ queryKey: keys.segments(place) })
    },
  })
  return (
    <>
      {remove.error && <Failure error={remove.error} />}
      <Confirm
        title={`Remove ${name}?`}
        yes="Remove it"
        onYes={() => remove.mutate()}
        trigger={<Button rank="danger">Remove</Button>}
      >
        Nobody can be rung by it any more. What was sent by it stays as it was.
      </Confirm>
      <ActionLink rank="primary" to={`/write?to=segment:${name}`}>
        Ring these
      </ActionLink>
    </>
  )
}

function Editing({ first }: { readonly first: Segment | undefined }) {
  const place = usePlace()
  const client = useQueryClient()
  const go = useNavigate()
  const filled = useRequestForm({
    schema: namedSegment,
    first: { name: first?.name ?? '', rule: first?.rule ?? '', note: first?.note ?? '' },
    requestOf: ({ name, rule, note }) => ({ name: name.trim(), rule: rule.trim(), note: note.trim() || null }),
  })
  const { form } = filled
  return (
    <div className="grid gap-12">
      <Form
        of={filled}
        submit={first ? 'Save' : 'Save it'}
        rank="primary"
        className="max-w-7xl"
        onSubmit={async ({ name, ...body }) => {
          await place.call('saveSegment', { params: { segment: name }, body })
          await client.invalidateQueries({ queryKey: keys.segments(place) })
        }}
        onDone={() => first === undefined && void go(`/segments/${form.getValues('name').trim()}`)}
      >
        {first === undefined && (
          <div className="max-w-xl">
            <TextInput
              of={filled}
              name="name"
              label="Name"
              hint="Stands in references, as segment:commuters does"
              code
              placeholder="commuters"
            />
          </div>
        )}
        <Controller
          control={form.control}
          name="rule"
          render={({ field }) => <RuleField value={field.value} onChange={field.onChange} />}
        />
        <div className="max-w-xl">
          <TextInput of={filled} name="note" label="Note" hint="What it is for" placeholder="Who crosses every day" />
        </div>
      </Form>
      <TryOn rule={form.watch('rule')} />
    </div>
  )
}
