import { useQuery } from '@tanstack/react-query'
import type { Segment } from '@zbell/contract'
import { Plus } from 'lucide-react'
import { Link } from 'react-router'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { ActionLink } from '../parts/button.tsx'
import { type Column, DataTable } from '../parts/data-table.tsx'
import { FilterBar, TextFilter, useFilters } from '../parts/filters.tsx'
import { Moment } from '../parts/moment.tsx'
import { Empty, Loaded, Page } from '../parts/page.tsx'

const columns: readonly Column<Segment>[] = [
  {
    name: 'segment',
    title: 'Segment',
    always: true,
    width: 220,
    cell: ({ name, note }) => (
      <>
        <Link to={`/segments/${name}`} className="font-mono text-sm break-all">
          {name}
        </Link>
        {note && (
          <span className="block text-sm text-soft">
            <bdi>{note}</bdi>
          </span>
        )}
      </>
    ),
  },
  { name: 'rule', title: 'Rule', always: true, cell: ({ rule }) => <code className="font-mono text-sm">{rule}</code> },
  {
    name: 'saved',
    title: 'Saved',
    wide: true,
    width: 160,
    cell: ({ version, madeAt }) => (
      <>
        <Moment at={madeAt} />
        <span className="block text-sm text-soft">version {version}</span>
      </>
    ),
  },
  {
    name: 'ring',
    title: 'Actions',
    always: true,
    align: 'end',
    width: 110,
    cell: ({ name }) => (
      <ActionLink to={`/write?to=segment:${name}`} rank="quiet">
        Ring
      </ActionLink>
    ),
  },
]

/** The rules with a name that an app has. */
export function SegmentsPage() {
  const place = usePlace()
  const { search, set } = useFilters('search')
  const { data, error } = useQuery({
    queryKey: keys.segments(place),
    queryFn: () => place.all('listSegments'),
  })
  const wanted = search.toLowerCase()
  const fitting = data?.filter(({ name, note, rule }) => `${name} ${note ?? ''} ${rule}`.toLowerCase().includes(wanted))
  return (
    <Page
      title="Segments"
      asks="Who belongs together, by what is known of them?"
      action={
        <ActionLink to="/segments/~new" rank="primary" icon={Plus}>
          Write a rule
        </ActionLink>
      }
    >
      <Loaded of={{ data, error }}>
        {(data) =>
          data.length === 0 ? (
            <Empty
              what="A segment is a rule with a name: whoever it holds for belongs, at the moment at which it matters. It can be rung like a topic, and nobody has to keep a list."
              example={'user.pass == "season" && follows("route-4")'}
            >
              <ActionLink to="/segments/~new">Write the first one</ActionLink>
            </Empty>
          ) : (
            <DataTable
              label="Segments"
              name="segments"
              rows={fitting ?? []}
              idOf={({ name }) => name}
              columns={columns}
              none="No segment fits."
              tools={
                <FilterBar set={search === '' ? 0 : 1}>
                  <TextFilter label="Search" value={search} example="season" onChange={(text) => set('search', text)} />
                </FilterBar>
              }
            />
          )
        }
      </Loaded>
    </Page>
  )
}
