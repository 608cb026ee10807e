import { useQuery, useQueryClient } from '@tanstack/react-query'
import type { Firing, Trigger } from '@zbell/contract'
import { Link, useParams } from 'react-router'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { useSeen } from '../app/seen.ts'
import { DeleteIt, SwitchIt } from '../parts/acts.tsx'
import { type Column, DataTable } from '../parts/data-table.tsx'
import { DefinitionFile } from '../parts/definition-file.tsx'
import { type Fact, Facts } from '../parts/facts.tsx'
import { Moment } from '../parts/moment.tsx'
import { Failure, Loaded, Page } from '../parts/page.tsx'
import { casesOf, definitionOf, type ToldCase } from './definition.ts'
import { TriggerState } from './trigger-state.tsx'
import { type LastGiven, TryTrigger } from './try-trigger.tsx'

/** One trigger: what it listens to, what would come of an event, and what came of each. */
export function TriggerPage() {
  const place = usePlace()
  const client = useQueryClient()
  const { name = '' } = useParams()
  const at = { params: { trigger: name } }
  const trigger = useQuery({
    queryKey: [...keys.triggers(place), 'one', name],
    queryFn: () => place.call('readTrigger', at),
    refetchInterval: 10_000,
  })
  const firings = useQuery({
    queryKey: [...keys.triggers(place), 'firings', name],
    queryFn: () => place.call('listFirings', { ...at, query: { limit: '50' } }),
    refetchInterval: 2_000,
  })
  const save = async (named: string, body: Record<string, unknown>) => {
    const enabled = named === name && trigger.data?.enabled === true
    await place.call('saveTrigger', {
      params: { trigger: named },
      body: { enabled, ...body } as never,
    })
    await client.invalidateQueries({ queryKey: keys.triggers(place) })
  }
  useSeen('trigger', trigger.data?.name)
  return (
    <Page
      title={name}
      asks="When does it ring, for whom, and with what result?"
      crumbs={[{ to: '/triggers', name: 'Triggers' }]}
      action={trigger.data && <Acts trigger={trigger.data} />}
    >
      <Loaded of={trigger}>
        {(data) => (
          <div className="grid grid-cols-[minmax(0,1fr)] gap-10">
            <Details trigger={data} />
            <TryTrigger
              name={name}
              source={definitionOf(data).source}
              last={firings.data?.items[0]?.given as LastGiven | undefined}
            />
            <section aria-labelledby="firings">
              <h2 id="firings" className="mb-2">
                Firings
              </h2>
              {firings.error ? (
                <Failure error={firings.error} />
              ) : (
                <DataTable
                  label="Firings"
                  name="firings"
                  rows={firings.data?.items ?? []}
                  idOf={({ no }) => String(no)}
                  columns={columns}
                  none="It has not fired yet."
                />
              )}
            </section>
            <DefinitionFile
              key={data.version}
              title="As a file"
              hint="A change is a new version; it stays on or off as it is"
              member="trigger"
              initial={{ trigger: name, ...(data.definition as object) }}
              onSave={save}
            />
          </div>
        )}
      </Loaded>
    </Page>
  )
}

function Details({ trigger }: { readonly trigger: Trigger }) {
  const definition = definitionOf(trigger)
  const { source, types, devices, key, notMoreOftenThan, after, unless } = definition
  const code = (text: string) => <code className="font-mono text-sm wrap-anywhere">{text}</code>
  const facts: readonly Fact[] = [
    ['Status', <TriggerState key="is" of={trigger} />],
    [
      'Listens to',
      source === 'occurrences' ? (
        <>
          {code(types?.join(', ') ?? source)}
          {devices && ', also from devices'}
        </>
      ) : (
        <Link key="source" to={`/sources/${source}`} className="font-mono text-sm">
          {source}
        </Link>
      ),
    ],
    ...(key === undefined ? [] : [['Key', code(key)] as const]),
    ...(notMoreOftenThan === undefined
      ? []
      : [['Not more often', `than once in ${notMoreOftenThan} seconds`] as const]),
    ...(after === undefined ? [] : [['Waits', `${after} seconds`] as const]),
    ...(unless === undefined ? [] : [['Unless', code(unless)] as const]),
    ...(trigger.unmatched === 0
      ? []
      : [
          [
            'No match',
            `${trigger.unmatched.toLocaleString('en')} rows or events; the first ten of each hour are logged`,
          ] as const,
        ]),
    ['Saved', `version ${trigger.version}, by ${trigger.madeBy}`],
  ]
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-6">
      {trigger.pausedBecause !== null && (
        <p className="max-w-3xl text-red">
          It was paused before it rang everybody: {trigger.pausedBecause}. If that is right, switch it on: its count
          begins anew, and up to {trigger.maxAnHour.toLocaleString('en')} firings within an hour are let through.
        </p>
      )}
      <Facts all={facts} />
      <DataTable
        label="Cases"
        name="cases"
        rows={casesOf(definition)}
        idOf={({ when, to, says }) => `${when} ${to} ${says}`}
        columns={caseColumns}
      />
    </div>
  )
}

const caseColumns: readonly Column<ToldCase>[] = [
  {
    name: 'when',
    title: 'When',
    always: true,
    cell: ({ when }) => <code className="font-mono text-sm wrap-anywhere">{when}</code>,
  },
  {
    name: 'to',
    title: 'Rings',
    always: true,
    cell: ({ to }) => <code className="font-mono text-sm wrap-anywhere">{to}</code>,
  },
  { name: 'says', title: 'With', always: true, cell: ({ says }) => <bdi className="wrap-anywhere">{says}</bdi> },
]

const tones: Readonly<Record<Firing['state'], string>> = {
  rung: 'text-sea',
  waiting: 'text-sea',
  'not-needed': 'text-soft',
  throttled: 'text-soft',
  nobody: 'text-soft',
  'no-case': 'text-soft',
  fault: 'text-red',
  dropped: 'text-red',
}

const columns: readonly Column<Firing>[] = [
  { name: 'at', title: 'At', always: true, width: 180, cell: ({ at }) => <Moment at={at} /> },
  {
    name: 'key',
    title: 'Key',
    always: true,
    width: 240,
    cell: ({ key }) => <bdi className="font-mono text-sm break-all">{key}</bdi>,
  },
  {
    name: 'became',
    title: 'Result',
    always: true,
    width: 120,
    cell: ({ state }) => <span className={tones[state]}>{state}</span>,
  },
  {
    name: 'what',
    title: 'Last result',
    always: true,
    cell: ({ notification, says, dueAt, state }) => (
      <>
        {notification && <Link to={`/activity/${notification}`}>The notification</Link>} {says}
        {state === 'waiting' && dueAt && (
          <>
            until <Moment at={dueAt} />
          </>
        )}
      </>
    ),
  },
]

function Acts({ trigger: { name, enabled, pausedBecause } }: { readonly trigger: Trigger }) {
  const place = usePlace()
  const client = useQueryClient()
  const at = { params: { trigger: name } }
  const anew = () => client.invalidateQueries({ queryKey: keys.triggers(place) })
  return (
    <>
      <SwitchIt
        isOn={enabled && pausedBecause === null}
        onSwitch={(isOn) => place.call('changeTrigger', { ...at, body: { enabled: isOn } }).finally(anew)}
      />
      <DeleteIt name={name} onDelete={() => place.call('deleteTrigger', at)} to="/triggers" onGone={anew}>
        It rings no more, and its log goes with it. What it has rung stays as it is.
      </DeleteIt>
    </>
  )
}
