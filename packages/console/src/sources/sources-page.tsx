import { useQuery } from '@tanstack/react-query'
import type { Source } from '@zbell/contract'
import { Plus } from 'lucide-react'
import { Link } from 'react-router'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { ActionLink } from '../parts/button.tsx'
import { type Column, DataTable } from '../parts/data-table.tsx'
import { Listing } from '../parts/listing.tsx'
import { Moment } from '../parts/moment.tsx'
import { Page } from '../parts/page.tsx'
import { SourceState } from './source-state.tsx'

const columns: readonly Column<Source>[] = [
  {
    name: 'source',
    title: 'Source',
    always: true,
    width: 200,
    cell: ({ name }) => (
      <Link to={`/sources/${name}`} className="font-mono text-sm break-all">
        {name}
      </Link>
    ),
  },
  { name: 'kind', title: 'Kind', always: true, width: 110, cell: ({ kind }) => kind },
  { name: 'is', title: 'Status', always: true, width: 150, cell: (one) => <SourceState of={one} /> },
  {
    name: 'triggers',
    title: 'Read by',
    always: true,
    cell: ({ triggers }) =>
      triggers.length === 0 ? (
        <span className="text-soft">no trigger</span>
      ) : (
        <span className="flex flex-wrap gap-x-3">
          {triggers.map((name) => (
            <Link key={name} to={`/triggers/${name}`} className="font-mono text-sm">
              {name}
            </Link>
          ))}
        </span>
      ),
  },
  {
    name: 'looked',
    title: 'Last polled',
    wide: true,
    width: 170,
    cell: ({ polledAt }) => polledAt && <Moment at={polledAt} />,
  },
  {
    name: 'says',
    title: 'Last result',
    wide: true,
    cell: ({ fault, leftOut, note }) => (
      <bdi className={fault === null ? 'text-soft' : 'text-red'}>{fault ?? leftOut ?? note}</bdi>
    ),
  },
]

/** What triggers read. */
export function SourcesPage() {
  const place = usePlace()
  const listed = useQuery({
    queryKey: keys.sources(place),
    queryFn: () => place.all('listSources'),
    refetchInterval: 5_000,
  })
  return (
    <Page
      title="Sources"
      asks="What triggers read, and whether it can be read"
      action={
        <ActionLink to="/new-source" rank="primary" icon={Plus}>
          New source
        </ActionLink>
      }
    >
      <Listing
        of={listed}
        what="A source is a table of your database, an address that answers JSON, a segment, or what other services post. Triggers ring for what changes in it."
        example={'zbell source save docs/examples/sailings-source.yaml --address "$SAILINGS_URL"'}
      >
        {(rows) => <DataTable label="Sources" name="sources" rows={rows} idOf={({ name }) => name} columns={columns} />}
      </Listing>
    </Page>
  )
}
