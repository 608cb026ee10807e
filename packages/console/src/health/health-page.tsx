import { useQuery } from '@tanstack/react-query'
import type { Health } from '@zbell/contract'
import { nameGateway, refusalWords, span } from '@zbell/contract/words'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { type Column, DataTable } from '../parts/data-table.tsx'
import { Moment } from '../parts/moment.tsx'
import { Loaded, Page } from '../parts/page.tsx'
import { Days } from './days.tsx'

const againMs = 5_000

export function HealthPage() {
  const place = usePlace()
  const { data, error } = useQuery({
    queryKey: keys.health(place),
    queryFn: () => place.call('readHealth'),
    refetchInterval: againMs,
  })
  return (
    <Page title="Health" asks="Whether everything runs, and how long it takes">
      <Loaded of={{ data, error }}>
        {(data) => (
          <div className="grid grid-cols-[minmax(0,1fr)] gap-12">
            <Verdict health={data} />
            <Gateways processes={data.processes} />
            <Days />
            <Processes health={data} />
            <Jobs jobs={data.jobs} />
          </div>
        )}
      </Loaded>
    </Page>
  )
}

function Verdict({ health }: { readonly health: Health }) {
  const refused = refusalWords(health.userRefusals)
  const { troubles } = health
  const { due, later, paused } = health.queue
  const count = (devices: number) => devices.toLocaleString('en')
  return (
    <section aria-live="polite">
      {troubles.length === 0 ? (
        <p className="text-lg text-sea">
          <span aria-hidden="true">● </span>All is well.
        </p>
      ) : (
        <ul className="grid gap-2">
          {troubles.map(({ detail, remedy }) => (
            <li key={detail}>
              <span className="text-red">
                <span aria-hidden="true">✕ </span>
                {detail}
              </span>{' '}
              <span className="text-soft">{remedy}</span>
            </li>
          ))}
        </ul>
      )}
      <p className="mt-2 text-soft">
        {due + later + paused === 0
          ? 'The queue is empty.'
          : `In the queue: ${count(due)} devices whose turn has come, ${count(later)} for later, ${count(paused)} paused.`}
        {health.devicesPerSecond !== null && ` ${count(health.devicesPerSecond)} devices a second lately.`}
      </p>
      {refused && <p className="mt-2">{refused}</p>}
    </section>
  )
}

const stateLooks = {
  open: { shape: '●', tone: 'text-sea', says: 'open' },
  resting: { shape: '◌', tone: 'text-amber', says: 'rests' },
  halted: { shape: '✕', tone: 'text-red', says: 'refuses the credential' },
} as const

type GatewayRow = {
  readonly id: string
  readonly pid: number
  readonly gateway: Health['processes'][number]['gateways'][number]
}

const gatewayColumns: readonly Column<GatewayRow>[] = [
  {
    name: 'gateway',
    title: 'Gateway',
    always: true,
    width: 280,
    cell: ({ gateway }) => (
      <>
        {nameGateway(gateway)}
        <span className="block text-sm break-all text-soft">{gateway.gateway ?? 'each browser’s own'}</span>
      </>
    ),
  },
  {
    name: 'state',
    title: 'State',
    always: true,
    width: 150,
    cell: ({ gateway }) => {
      const looks = stateLooks[gateway.state]
      return (
        <>
          <span className={looks.tone}>
            <span aria-hidden="true">{looks.shape} </span>
            {looks.says}
          </span>
          {gateway.restsUntil && (
            <span className="block text-sm text-soft">
              until <Moment at={gateway.restsUntil} />
            </span>
          )}
        </>
      )
    },
  },
  {
    name: 'flight',
    title: 'In flight',
    wide: true,
    align: 'end',
    width: 140,
    cell: ({ gateway }) => `${gateway.inFlight} of ${gateway.inFlightLimit}`,
  },
  {
    name: 'median',
    title: 'Median',
    wide: true,
    align: 'end',
    width: 110,
    cell: ({ gateway }) => (gateway.medianMs === null ? '–' : span(gateway.medianMs)),
  },
  {
    name: 'p99',
    title: 'p99',
    wide: true,
    align: 'end',
    width: 120,
    cell: ({ gateway }) => (gateway.p99Ms === null ? '–' : span(gateway.p99Ms)),
  },
  {
    name: 'answers',
    title: 'Answers, last 5 min',
    always: true,
    cell: ({ gateway }) =>
      Object.entries(gateway.answers)
        .map(([name, count]) => `${count.toLocaleString('en')} ${name}`)
        .join(', ') || '–',
  },
  { name: 'process', title: 'Process', wide: true, align: 'end', width: 100, cell: ({ pid }) => pid },
]

function Gateways({ processes }: Pick<Health, 'processes'>) {
  const rows = processes.flatMap(({ id, pid, gateways }) => gateways.map((gateway) => ({ id, pid, gateway })))
  // Which process it is matters only where several ask.
  const several = processes.filter(({ gateways }) => gateways.length > 0).length > 1
  return (
    <section>
      <h2>Gateways</h2>
      {rows.length === 0 ? (
        <p className="mt-2 text-soft">No gateway has been needed since the service started.</p>
      ) : (
        <div className="mt-2">
          <DataTable
            label="Gateways"
            name="gateways"
            rows={rows}
            idOf={({ id, gateway }) => `${id} ${nameGateway(gateway)}`}
            columns={several ? gatewayColumns : gatewayColumns.filter(({ name }) => name !== 'process')}
          />
        </div>
      )}
    </section>
  )
}

type Job = Health['jobs'][number]

const jobColumns: readonly Column<Job>[] = [
  {
    name: 'job',
    title: 'Job',
    always: true,
    width: 240,
    cell: ({ name }) => <span className="font-mono text-sm leading-6">{name}</span>,
  },
  { name: 'every', title: 'Every', wide: true, width: 110, cell: ({ everySeconds }) => span(everySeconds * 1_000) },
  {
    name: 'last',
    title: 'Last run',
    always: true,
    cell: ({ finishedAt }) => (finishedAt === null ? 'not yet' : <Moment at={finishedAt} />),
  },
  {
    name: 'took',
    title: 'Duration',
    wide: true,
    width: 110,
    align: 'end',
    cell: ({ durationMs }) => (durationMs === null ? '–' : span(durationMs)),
  },
  {
    name: 'result',
    title: 'Result',
    always: true,
    cell: ({ error, finishedAt }) =>
      error !== null ? (
        <span className="text-red">✕ {error}</span>
      ) : finishedAt === null ? (
        '–'
      ) : (
        <span className="whitespace-nowrap text-sea">● done</span>
      ),
  },
]

function Jobs({ jobs }: Pick<Health, 'jobs'>) {
  return (
    <section>
      <h2 className="mb-2">In the background</h2>
      <DataTable label="In the background" name="jobs" rows={jobs} idOf={({ name }) => name} columns={jobColumns} />
    </section>
  )
}

type Process = Health['processes'][number]

const processColumns: readonly Column<Process>[] = [
  {
    name: 'process',
    title: 'Process',
    always: true,
    cell: ({ host, pid }) => (
      <span className="font-mono text-sm leading-6 break-all">
        {host}:{pid}
      </span>
    ),
  },
  { name: 'does', title: 'Part', always: true, width: 280, cell: ({ does }) => does },
  { name: 'since', title: 'Since', wide: true, cell: ({ startedAt }) => <Moment at={startedAt} /> },
  {
    name: 'memory',
    title: 'Memory',
    always: true,
    align: 'end',
    width: 110,
    cell: ({ memoryMb }) => `${Math.round(memoryMb)} MB`,
  },
  { name: 'heard', title: 'Last report', wide: true, cell: ({ seenAt }) => <Moment at={seenAt} /> },
]

function Processes({ health: { processes, databaseMs } }: { readonly health: Health }) {
  return (
    <section>
      <h2 className="mb-2">Processes</h2>
      <DataTable label="Processes" name="processes" rows={processes} idOf={({ id }) => id} columns={processColumns} />
      <p className="mt-2 text-soft">The database answers in {databaseMs} ms.</p>
    </section>
  )
}
