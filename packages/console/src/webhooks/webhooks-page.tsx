import { useQuery } from '@tanstack/react-query'
import type { Webhook } from '@zbell/contract'
import { waitingWords } from '@zbell/contract/words'
import { Plus } from 'lucide-react'
import { Link } from 'react-router'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { useIsOwner } from '../app/session.ts'
import { ActionLink } from '../parts/button.tsx'
import { type Column, DataTable } from '../parts/data-table.tsx'
import { Listing } from '../parts/listing.tsx'
import { Moment } from '../parts/moment.tsx'
import { Page } from '../parts/page.tsx'
import { WebhookState } from './webhook-state.tsx'

const columns: readonly Column<Webhook>[] = [
  {
    name: 'webhook',
    title: 'Webhook',
    always: true,
    width: 170,
    cell: ({ name }) => (
      <Link to={`/webhooks/${name}`} className="font-mono text-sm break-all">
        {name}
      </Link>
    ),
  },
  { name: 'is', title: 'State', always: true, width: 150, cell: (one) => <WebhookState of={one} /> },
  {
    name: 'kinds',
    title: 'Kinds',
    always: true,
    cell: ({ kinds }) => <span className="font-mono text-sm">{kinds.join(', ')}</span>,
  },
  {
    name: 'waiting',
    title: 'Waiting',
    always: true,
    width: 130,
    cell: (one) => (one.waiting === 0 ? '' : waitingWords(one)),
  },
  {
    name: 'told',
    title: 'Last delivered',
    wide: true,
    width: 170,
    cell: ({ toldAt }) => toldAt && <Moment at={toldAt} />,
  },
  {
    name: 'trouble',
    title: 'Receiver',
    wide: true,
    cell: ({ offBecause, fault }) => <bdi className="text-red">{offBecause ?? fault}</bdi>,
  },
]

/** What is delivered to the app’s own server. */
export function WebhooksPage() {
  const place = usePlace()
  const isOwner = useIsOwner()
  const listed = useQuery({
    queryKey: keys.webhooks(place),
    queryFn: () => place.all('listWebhooks'),
    refetchInterval: 5_000,
  })
  return (
    <Page
      title="Webhooks"
      asks="What is delivered to your own server, and whether requests succeed"
      action={
        isOwner && (
          <ActionLink to="/new-webhook" rank="primary" icon={Plus}>
            New webhook
          </ActionLink>
        )
      }
    >
      <Listing
        of={listed}
        what="A webhook is an address of your own server that learns what happens here: a phone that is gone, a credential that is refused, a button that somebody pressed."
        example="zbell webhook save docs/examples/tickets-webhook.yaml"
      >
        {(rows) => (
          <DataTable label="Webhooks" name="webhooks" rows={rows} idOf={({ name }) => name} columns={columns} />
        )}
      </Listing>
    </Page>
  )
}
