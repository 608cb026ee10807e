import { useQuery } from '@tanstack/react-query'
import type { Trigger } from '@zbell/contract'
import { Plus } from 'lucide-react'
import { Link } from 'react-router'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { ActionLink } from '../parts/button.tsx'
import { type Column, DataTable } from '../parts/data-table.tsx'
import { Listing } from '../parts/listing.tsx'
import { Moment } from '../parts/moment.tsx'
import { Page } from '../parts/page.tsx'
import { definitionOf } from './definition.ts'
import { TriggerState } from './trigger-state.tsx'

const columns: readonly Column<Trigger>[] = [
  {
    name: 'trigger',
    title: 'Trigger',
    always: true,
    width: 220,
    cell: ({ name }) => (
      <Link to={`/triggers/${name}`} className="font-mono text-sm break-all">
        {name}
      </Link>
    ),
  },
  { name: 'is', title: 'Status', always: true, width: 110, cell: (one) => <TriggerState of={one} /> },
  {
    name: 'listens',
    title: 'Events',
    always: true,
    cell: (one) => {
      const { source, types } = definitionOf(one)
      return source === 'occurrences' ? (
        <span className="font-mono text-sm break-words">{types?.join(', ') ?? source}</span>
      ) : (
        <Link to={`/sources/${source}`} className="font-mono text-sm break-words">
          {source}
        </Link>
      )
    },
  },
  {
    name: 'saved',
    title: 'Saved',
    wide: true,
    width: 160,
    cell: ({ version, changedAt }) => (
      <>
        <Moment at={changedAt} />
        <span className="block text-sm text-soft">version {version}</span>
      </>
    ),
  },
]

/** What rings without a person. */
export function TriggersPage() {
  const place = usePlace()
  const listed = useQuery({
    queryKey: keys.triggers(place),
    queryFn: () => place.all('listTriggers'),
    refetchInterval: 10_000,
  })
  return (
    <Page
      title="Triggers"
      asks="What rings by itself, and when"
      action={
        <ActionLink to="/new-trigger" rank="primary" icon={Plus}>
          New trigger
        </ActionLink>
      }
    >
      <Listing
        of={listed}
        what="A trigger rings for a row that changes or for what happens: a condition, whom it is for, and the words. It is saved, tried, and then switched on."
        example={'zbell trigger save docs/examples/booked-trigger.yaml'}
      >
        {(rows) => (
          <DataTable label="Triggers" name="triggers" rows={rows} idOf={({ name }) => name} columns={columns} />
        )}
      </Listing>
    </Page>
  )
}
