import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import type { Webhook, WebhookEntry } from '@zbell/contract'
import { answerWords, eventsWords, tellingWords, waitingWords } from '@zbell/contract/words'
import { useState } from 'react'
import { Link, useParams } from 'react-router'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { useSeen } from '../app/seen.ts'
import { useIsOwner } from '../app/session.ts'
import { DeleteIt, SwitchIt } from '../parts/acts.tsx'
import { Button } from '../parts/button.tsx'
import { type Column, DataTable } from '../parts/data-table.tsx'
import { DefinitionFile } from '../parts/definition-file.tsx'
import { Confirm } from '../parts/dialog.tsx'
import { type Fact, Facts } from '../parts/facts.tsx'
import { Moment } from '../parts/moment.tsx'
import { Failure, Loaded, Page } from '../parts/page.tsx'
import { Select } from '../parts/select.tsx'
import { ShownOnce } from '../parts/shown-once.tsx'
import { Replay } from './replay.tsx'
import { TryWebhook } from './try-webhook.tsx'
import { EntryOutcome, WebhookState } from './webhook-state.tsx'

/** One webhook: whether it gets through, what was delivered, and how it is defined. */
export function WebhookPage() {
  const place = usePlace()
  const client = useQueryClient()
  const isOwner = useIsOwner()
  const { name = '' } = useParams()
  const at = { params: { webhook: name } }
  const webhook = useQuery({
    queryKey: [...keys.webhooks(place), 'one', name],
    queryFn: () => place.call('readWebhook', at),
    refetchInterval: 2_000,
  })
  const save = async (named: string, body: Record<string, unknown>) => {
    await place.call('saveWebhook', { ...at, params: { ...at.params, webhook: named }, body: body as never })
    await client.invalidateQueries({ queryKey: keys.webhooks(place) })
  }
  useSeen('webhook', webhook.data?.name)
  return (
    <Page
      title={name}
      asks="Whether requests succeed, and what was delivered to your server"
      crumbs={[{ to: '/webhooks', name: 'Webhooks' }]}
      action={webhook.data && isOwner && <Acts webhook={webhook.data} />}
    >
      <Loaded of={webhook}>
        {(data) => (
          <div className="grid grid-cols-[minmax(0,1fr)] gap-10">
            <Details webhook={data} />
            <TryWebhook name={name} />
            <Log name={name} />
            <Replay name={name} />
            {isOwner && (
              <>
                <NewSecret name={name} />
                <DefinitionFile
                  key={data.changedAt}
                  title="As a file"
                  hint="What is secret of its address is not shown, and stays as it is where ••• stands"
                  member="webhook"
                  initial={definitionOf(data)}
                  onSave={save}
                />
              </>
            )}
          </div>
        )}
      </Loaded>
    </Page>
  )
}

const definitionOf = ({ name, url, kinds, when, batch, ca, enabled }: Webhook): Record<string, unknown> => ({
  webhook: name,
  ...(url === null ? {} : { url }),
  kinds,
  ...(when === null ? {} : { when }),
  ...(batch === 1 ? {} : { batch }),
  ...(ca === null ? {} : { ca }),
  ...(enabled ? {} : { enabled }),
})

function Details({ webhook }: { readonly webhook: Webhook }) {
  const { url, kinds, when, batch, waiting, waitingSince, fault, faultSince, offBecause, toldAt, dropped } = webhook
  const code = (text: string) => <code className="font-mono text-sm wrap-anywhere">{text}</code>
  const facts: readonly Fact[] = [
    ['State', <WebhookState key="is" of={webhook} />],
    ...(offBecause === null
      ? []
      : [
          [
            'Fault',
            <span key="off" className="text-red">
              {offBecause}
            </span>,
          ] as const,
        ]),
    ...(fault === null || offBecause !== null
      ? []
      : [
          [
            'Fault',
            <span key="fault" className="text-red">
              {fault}
              {faultSince && (
                <>
                  , since <Moment at={faultSince} />
                </>
              )}
            </span>,
          ] as const,
        ]),
    ['Address', url === null ? 'an address that no master key opens any more' : code(url)],
    ['Kinds', code(kinds.join(', '))],
    ...(when === null ? [] : [['When', code(when)] as const]),
    ...(batch === 1 ? [] : [['Batch', `up to ${batch.toLocaleString('en')} events`] as const]),
    ['Last delivered', toldAt === null ? 'not yet' : <Moment key="told" at={toldAt} />],
    [
      'Waiting',
      waiting === 0 ? (
        'nothing'
      ) : (
        <span key="waiting">
          {waitingWords(webhook)}
          {waitingSince && (
            <>
              , since <Moment at={waitingSince} />
            </>
          )}
        </span>
      ),
    ],
    ...(dropped === 0 ? [] : [['Not delivered', eventsWords(dropped)] as const]),
    ...webhook.olderSecretsUntil.map(
      (until) =>
        [
          'Old secret',
          <span key={until}>
            signs too, until <Moment at={until} />
          </span>,
        ] as const,
    ),
    ['Saved', `by ${webhook.madeBy}`],
  ]
  return <Facts all={facts} />
}

const outcomes = [
  { value: '', label: 'All' },
  ...Object.entries(tellingWords).map(([value, label]) => ({ value, label })),
] as const

function Log({ name }: { readonly name: string }) {
  const place = usePlace()
  const [outcome, setOutcome] = useState('')
  const log = useQuery({
    queryKey: [...keys.webhooks(place), 'log', name, outcome],
    queryFn: () =>
      place.call('listWebhookLog', {
        params: { webhook: name },
        query: { limit: '50', ...(outcome === '' ? {} : { outcome: outcome as WebhookEntry['outcome'] }) },
      }),
    refetchInterval: 2_000,
  })
  return (
    <section aria-labelledby="log">
      <div className="mb-2 flex flex-wrap items-center gap-4">
        <h2 id="log">Request log</h2>
        <Select label="Which requests" className="w-56" value={outcome} options={outcomes} onChange={setOutcome} />
      </div>
      {log.error ? (
        <Failure error={log.error} />
      ) : (
        <DataTable
          label="Log"
          name="webhook-log"
          rows={log.data?.items ?? []}
          idOf={({ no }) => String(no)}
          columns={logColumns(name)}
          none="Nothing was delivered yet."
        />
      )}
    </section>
  )
}

const logColumns = (name: string): readonly Column<WebhookEntry>[] => [
  {
    name: 'at',
    title: 'At',
    always: true,
    width: 190,
    cell: ({ no, at }) => (
      <Link to={`/webhooks/${name}/${no}`}>
        <Moment at={at} />
      </Link>
    ),
  },
  { name: 'became', title: 'Outcome', always: true, width: 210, cell: (one) => <EntryOutcome of={one} /> },
  {
    name: 'kind',
    title: 'Kind',
    always: true,
    width: 200,
    cell: ({ kind }) => <span className="font-mono text-sm">{kind ?? 'several'}</span>,
  },
  { name: 'events', title: 'Events', always: true, width: 80, cell: ({ events }) => events },
  { name: 'attempt', title: 'Attempt', wide: true, width: 80, cell: ({ attempt }) => attempt },
  { name: 'answer', title: 'Answer', always: true, cell: (one) => <bdi>{answerWords(one)}</bdi> },
  { name: 'took', title: 'Duration', wide: true, width: 90, cell: ({ durationMs }) => `${durationMs} ms` },
]

function NewSecret({ name }: { readonly name: string }) {
  const place = usePlace()
  const client = useQueryClient()
  const change = useMutation({
    mutationFn: () => place.call('changeWebhookSecret', { params: { webhook: name }, body: {} }),
    onSuccess: () => client.invalidateQueries({ queryKey: keys.webhooks(place) }),
  })
  return (
    <section aria-labelledby="secret" className="grid max-w-3xl gap-3">
      <h2 id="secret">Its secret</h2>
      {change.error && <Failure error={change.error} />}
      {change.data?.secret ? (
        <ShownOnce
          secret={change.data.secret}
          for="The one before signs beside it for a day: give your server this one by then."
        />
      ) : (
        <div>
          <Confirm
            title="Make a new secret?"
            yes="Make it"
            onYes={() => change.mutate()}
            trigger={<Button busy={change.isPending}>Make a new secret</Button>}
          >
            The one that signs now signs beside it for a day, so that your server can change over in peace. One that was
            replaced before ends at once.
          </Confirm>
        </div>
      )}
    </section>
  )
}

function Acts({ webhook: { name, enabled } }: { readonly webhook: Webhook }) {
  const place = usePlace()
  const client = useQueryClient()
  const at = { params: { webhook: name } }
  const anew = () => client.invalidateQueries({ queryKey: keys.webhooks(place) })
  return (
    <>
      <SwitchIt
        isOn={enabled}
        onSwitch={(isOn) => place.call('changeWebhook', { ...at, body: { enabled: isOn } }).finally(anew)}
      />
      <DeleteIt name={name} onDelete={() => place.call('deleteWebhook', at)} to="/webhooks" onGone={anew}>
        Nothing more is delivered to it. What waits for it and its log go with it.
      </DeleteIt>
    </>
  )
}
