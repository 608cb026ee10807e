import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import type { WebhookEntry } from '@zbell/contract'
import { eventsWords, replayWords } from '@zbell/contract/words'
import { useParams } from 'react-router'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { Button } from '../parts/button.tsx'
import { type Fact, Facts } from '../parts/facts.tsx'
import { Moment } from '../parts/moment.tsx'
import { Failure, Loaded, Page } from '../parts/page.tsx'
import { Request } from './request.tsx'
import { EntryOutcome } from './webhook-state.tsx'

/** One request of a webhook’s log. */
export function WebhookEntryPage() {
  const place = usePlace()
  const client = useQueryClient()
  const { name = '', entry = '' } = useParams()
  const at = { params: { webhook: name } }
  const { data, error } = useQuery({
    queryKey: [...keys.webhooks(place), 'entry', name, entry],
    queryFn: () => place.call('readWebhookRequest', { ...at, params: { ...at.params, entry } }),
  })
  const replay = useMutation({
    mutationFn: () => place.call('replayWebhook', { ...at, body: { entry: Number(entry) } }),
    onSuccess: () => client.invalidateQueries({ queryKey: keys.webhooks(place) }),
  })
  const mayReplay = data?.request !== null && data?.entry.outcome !== 'tried'
  return (
    <Page
      title={`Request ${entry}`}
      asks="What was sent, and what was answered"
      crumbs={[
        { to: '/webhooks', name: 'Webhooks' },
        { to: `/webhooks/${name}`, name },
      ]}
      action={
        data &&
        mayReplay && (
          <Button busy={replay.isPending} onClick={() => replay.mutate()}>
            Replay it
          </Button>
        )
      }
    >
      <Loaded of={{ data, error }}>
        {(data) => (
          <div className="grid gap-8">
            {replay.error && <Failure error={replay.error} />}
            {replay.data && (
              <p role="status" className="text-sea">
                ● {replayWords(replay.data.events)}; their ids stay the same.
              </p>
            )}
            <Facts all={factsOf(data.entry)} />
            <Request of={data} />
          </div>
        )}
      </Loaded>
    </Page>
  )
}

const factsOf = (entry: WebhookEntry): readonly Fact[] => [
  ['Outcome', <EntryOutcome key="it" of={entry} />],
  ['At', <Moment key="at" at={entry.at} />],
  ['Events', `${eventsWords(entry.events)} of ${entry.kind ?? 'several kinds'}`],
  ['Attempt', String(entry.attempt)],
  [
    'Message',
    <code key="message" className="font-mono text-sm break-all">
      {entry.message}
    </code>,
  ],
  ...(entry.says === null ? [] : [['Because', entry.says] as const]),
]
