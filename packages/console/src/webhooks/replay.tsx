import { useMutation, useQueryClient } from '@tanstack/react-query'
import { instantOfTyped, replayWords } from '@zbell/contract/words'
import { useState } from 'react'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { Button } from '../parts/button.tsx'
import { Failure } from '../parts/page.tsx'
import { Select } from '../parts/select.tsx'

const spans = [
  { value: '15m', label: 'the last quarter of an hour' },
  { value: '1h', label: 'the last hour' },
  { value: '6h', label: 'the last six hours' },
  { value: '1d', label: 'the last day' },
  { value: '3d', label: 'the last three days' },
] as const
const whats = [
  { value: 'given-up', label: 'what was given up' },
  { value: 'told', label: 'what was acknowledged' },
  { value: '', label: 'everything' },
] as const

/** Sends again what was sent, or given up, in a span of time. */
export function Replay({ name }: { readonly name: string }) {
  const place = usePlace()
  const client = useQueryClient()
  const [span, setSpan] = useState<(typeof spans)[number]['value']>('1h')
  const [what, setWhat] = useState<(typeof whats)[number]['value']>('given-up')
  const replay = useMutation({
    mutationFn: () =>
      place.call('replayWebhook', {
        params: { webhook: name },
        body: {
          from: instantOfTyped(span, Date.now()) ?? new Date().toISOString(),
          ...(what === '' ? {} : { outcome: what }),
        },
      }),
    onSuccess: () => client.invalidateQueries({ queryKey: keys.webhooks(place) }),
  })
  return (
    <section aria-labelledby="replay" className="grid gap-3">
      <h2 id="replay">Replay</h2>
      <p className="max-w-3xl text-soft">
        When your server has lost something, send it again; each event keeps its id.
      </p>
      <div className="flex flex-wrap items-center gap-3">
        <span>Replay</span>
        <Select label="What" className="w-52" value={what} options={whats} onChange={setWhat} />
        <span>from</span>
        <Select label="Recorded at" className="w-64" value={span} options={spans} onChange={setSpan} />
        <Button busy={replay.isPending} onClick={() => replay.mutate()}>
          Replay
        </Button>
      </div>
      {replay.error && <Failure error={replay.error} />}
      <div role="status">
        {replay.data &&
          (replay.data.events === 0 ? 'There is nothing of that in its log.' : `${replayWords(replay.data.events)}.`)}
      </div>
    </section>
  )
}
