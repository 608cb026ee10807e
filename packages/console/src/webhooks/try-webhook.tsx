import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { api } from '../app/api.ts'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { Button } from '../parts/button.tsx'
import { Failure } from '../parts/page.tsx'
import { Select } from '../parts/select.tsx'
import { Request } from './request.tsx'

/** Sends an example now, and shows what came back. */
export function TryWebhook({ name }: { readonly name: string }) {
  const place = usePlace()
  const client = useQueryClient()
  const [kind, setKind] = useState('')
  const kinds = useQuery({ queryKey: ['event-kinds'], queryFn: () => api.call('listEventKinds', {}) })
  const ask = useMutation({
    mutationFn: () => place.call('tryWebhook', { params: { webhook: name }, body: kind === '' ? {} : { kind } }),
    onSuccess: () => client.invalidateQueries({ queryKey: keys.webhooks(place) }),
  })
  const options = [
    { value: '', label: 'The first of its kinds' },
    ...(kinds.data?.items ?? []).map((one) => ({ value: one.kind, label: one.kind })),
  ]
  return (
    <section aria-labelledby="try" className="grid gap-4">
      <h2 id="try">Try it</h2>
      <div className="flex flex-wrap items-center gap-3">
        <Select label="Kind" className="w-72" value={kind} options={options} onChange={setKind} />
        <Button rank="primary" busy={ask.isPending} onClick={() => ask.mutate()}>
          Send an example
        </Button>
      </div>
      {ask.error && <Failure error={ask.error} />}
      <div aria-live="polite">{ask.data && <Request of={ask.data} />}</div>
    </section>
  )
}
