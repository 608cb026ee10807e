import { useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Link, useNavigate } from 'react-router'
import { api } from '../app/api.ts'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { type Column, DataTable } from '../parts/data-table.tsx'
import { DefinitionFile } from '../parts/definition-file.tsx'
import { Page } from '../parts/page.tsx'
import { ShownOnce } from '../parts/shown-once.tsx'

const example = {
  webhook: 'tickets',
  url: 'https://tickets.example/bell',
  kinds: ['device.retired', 'delivery.refused', 'delivery.action', 'credential.*'],
}

type Kind = { readonly kind: string; readonly says: string }
const columns: readonly Column<Kind>[] = [
  {
    name: 'kind',
    title: 'Kind',
    always: true,
    width: 220,
    cell: ({ kind }) => <code className="text-sm">{kind}</code>,
  },
  { name: 'says', title: 'Condition', always: true, cell: ({ says }) => says },
]

/** Writes a webhook, beginning with an example, beside the kinds of events that there are. */
export function NewWebhookPage() {
  const place = usePlace()
  const client = useQueryClient()
  const go = useNavigate()
  const kinds = useQuery({ queryKey: ['event-kinds'], queryFn: () => api.call('listEventKinds', {}) })
  const [made, setMade] = useState<{ readonly name: string; readonly secret: string }>()
  const save = async (webhook: string, body: Record<string, unknown>) => {
    const saved = await place.call('saveWebhook', { params: { webhook }, body: body as never })
    await client.invalidateQueries({ queryKey: keys.webhooks(place) })
    if (saved.secret === null) await go(`/webhooks/${webhook}`)
    else setMade({ name: webhook, secret: saved.secret })
  }
  return (
    <Page
      title="New webhook"
      asks="Which events should your own server receive, and where?"
      crumbs={[{ to: '/webhooks', name: 'Webhooks' }]}
    >
      {made ? (
        <div className="grid max-w-3xl gap-4">
          <ShownOnce secret={made.secret} for="Your server uses it to verify that a request comes from here." />
          <Link to={`/webhooks/${made.name}`}>Try it</Link>
        </div>
      ) : (
        <div className="grid gap-8">
          <DefinitionFile
            title="As a file"
            hint="delivery.* means all of a family. when: a rule over event. batch: the most events of a request"
            member="webhook"
            initial={example}
            onSave={save}
          />
          <section aria-labelledby="kinds">
            <h2 id="kinds" className="mb-2">
              Kinds of events
            </h2>
            <DataTable
              label="Kinds of events"
              name="event-kinds"
              rows={kinds.data?.items ?? []}
              idOf={({ kind }) => kind}
              columns={columns}
            />
          </section>
        </div>
      )}
    </Page>
  )
}
