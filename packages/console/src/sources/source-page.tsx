import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import type { Source, TriedSource } from '@zbell/contract'
import { Link, useParams } from 'react-router'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { useSeen } from '../app/seen.ts'
import { DeleteIt } from '../parts/acts.tsx'
import { Button } from '../parts/button.tsx'
import { type Column, DataTable } from '../parts/data-table.tsx'
import { DefinitionFile } from '../parts/definition-file.tsx'
import { type Fact, Facts } from '../parts/facts.tsx'
import { Moment } from '../parts/moment.tsx'
import { Failure, Loaded, Page } from '../parts/page.tsx'
import { SaveAnyway, useSaveSource } from './save-source.tsx'
import { SourceState } from './source-state.tsx'

/** One source: whether it can be read, what it shows, and how it is defined. */
export function SourcePage() {
  const place = usePlace()
  const { name = '' } = useParams()
  const at = { params: { source: name } }
  const source = useQuery({
    queryKey: [...keys.sources(place), 'one', name],
    queryFn: () => place.call('readSource', at),
    refetchInterval: 5_000,
  })
  const saving = useSaveSource()
  useSeen('source', source.data?.name)
  return (
    <Page
      title={name}
      asks="Whether it can be read, and what it contains"
      crumbs={[{ to: '/sources', name: 'Sources' }]}
      action={source.data && <Remove source={source.data} />}
    >
      <Loaded of={source}>
        {(data) => (
          <div className="grid gap-10">
            <Details source={data} />
            <TrySource name={name} />
            <DefinitionFile
              key={data.version}
              title="As a file"
              hint="What is secret is not shown, and stays as it is where ••• stands"
              member="source"
              initial={{ source: name, ...(data.definition as object) }}
              onSave={async (named, body) => void (await saving.save(named, body))}
            />
            <SaveAnyway of={saving} />
          </div>
        )}
      </Loaded>
    </Page>
  )
}

function Details({ source }: { readonly source: Source }) {
  const { kind, triggers, polledAt, note, leftOut, fault, faultSince, address, version, madeBy } = source
  const facts: readonly Fact[] = [
    ['Status', <SourceState key="is" of={source} />],
    ...(fault === null
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
    ...(leftOut === null ? [] : [['Left out', leftOut] as const]),
    ...(note === null ? [] : [['Last result', note] as const]),
    ...(polledAt === null
      ? []
      : [[kind === 'incoming' ? 'Last received' : 'Last polled', <Moment key="at" at={polledAt} />] as const]),
    ...(address === null
      ? []
      : [
          [
            'Posted to',
            <code key="address" className="font-mono text-sm break-all">
              {address}
            </code>,
          ] as const,
        ]),
    [
      'Read by',
      triggers.length === 0 ? (
        'no trigger'
      ) : (
        <span key="triggers" className="flex flex-wrap gap-x-3">
          {triggers.map((one) => (
            <Link key={one} to={`/triggers/${one}`} className="font-mono text-sm">
              {one}
            </Link>
          ))}
        </span>
      ),
    ],
    ['Saved', `version ${version}, by ${madeBy}`],
  ]
  return <Facts all={facts} />
}

type Shown = { readonly name: string; readonly type: string; readonly values: readonly string[] }

const shownOf = ({ columns, rows }: TriedSource): Shown[] =>
  columns.map(({ name, type }) => ({
    name,
    type,
    values: rows.map((row) => {
      const cell = (row as Record<string, unknown>)[name]
      return cell === undefined ? '' : typeof cell === 'string' ? cell : JSON.stringify(cell)
    }),
  }))

const columns: readonly Column<Shown>[] = [
  {
    name: 'column',
    title: 'Column',
    always: true,
    width: 180,
    cell: ({ name }) => <bdi className="font-mono text-sm">{name}</bdi>,
  },
  { name: 'holds', title: 'Holds', always: true, width: 110, cell: ({ type }) => type },
  ...[0, 1, 2].map(
    (at): Column<Shown> => ({
      name: `row-${at}`,
      title: at === 0 ? 'The last rows' : '',
      always: true,
      cell: ({ values }) => <bdi className="font-mono text-sm break-all">{values[at]?.slice(0, 60)}</bdi>,
    }),
  ),
]

/** Connects, and shows what there is. */
function TrySource({ name }: { readonly name: string }) {
  const place = usePlace()
  const ask = useMutation({
    mutationFn: () => place.call('trySource', { params: { source: name } }),
  })
  return (
    <section aria-labelledby="try" className="grid gap-4">
      <h2 id="try">What it shows</h2>
      <div>
        <Button rank="primary" busy={ask.isPending} onClick={() => ask.mutate()}>
          Try it
        </Button>
      </div>
      {ask.error && <Failure error={ask.error} />}
      <div aria-live="polite">
        {ask.data?.is === 'fault' && <p className="text-red">{ask.data.says}</p>}
        {ask.data?.is === 'fine' && (
          <DataTable
            label="What it shows"
            name="source-rows"
            rows={shownOf(ask.data)}
            idOf={(one) => one.name}
            columns={columns}
            none="It can be read, and shows nothing yet."
          />
        )}
        {ask.data?.came.map(({ at, makes, says }) => (
          <p key={at} className="mt-2 text-sm">
            <Moment at={at} />:{' '}
            {says ? (
              <span className="text-red">{says}</span>
            ) : makes.length === 0 ? (
              'makes nothing'
            ) : (
              `makes ${makes.map(({ type, subject }) => (subject === null ? type : `${type} of ${subject}`)).join(', ')}`
            )}
          </p>
        ))}
      </div>
    </section>
  )
}

function Remove({ source: { name, triggers } }: { readonly source: Source }) {
  const place = usePlace()
  const client = useQueryClient()
  if (triggers.length > 0) return null
  const at = { params: { source: name } }
  return (
    <DeleteIt
      name={name}
      onDelete={() => place.call('deleteSource', at)}
      to="/sources"
      onGone={() => client.invalidateQueries({ queryKey: keys.sources(place) })}
    >
      It is not read any more, and what it looked like is forgotten.
    </DeleteIt>
  )
}
