import { useQuery } from '@tanstack/react-query'
import type { Health } from '@zbell/contract'
import { nameGateway, span } from '@zbell/contract/words'
import { api } from '../app/api.ts'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { Moment } from '../parts/moment.tsx'
import { Failure, Page, Waiting } from '../parts/page.tsx'
import { Days } from './days.tsx'

const againMs = 5_000

export function HealthPage() {
  const place = usePlace()
  const { app, environment } = place
  const { data, error } = useQuery({
    queryKey: keys.health(place),
    queryFn: () => api.call('readHealth', { params: { app: app.slug }, query: { environment } }),
    refetchInterval: againMs,
  })
  return (
    <Page title="Health" asks="Does everything run, and how long does it take?">
      {error ? (
        <Failure error={error} />
      ) : data ? (
        <div className="grid grid-cols-[minmax(0,1fr)] gap-12">
          <Verdict health={data} />
          <Gateways processes={data.processes} />
          <Days />
          <Processes health={data} />
          <Jobs jobs={data.jobs} />
        </div>
      ) : (
        <Waiting />
      )}
    </Page>
  )
}

function Verdict({ health }: { readonly health: Health }) {
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
          {troubles.map(({ says, does }) => (
            <li key={says}>
              <span className="text-red">
                <span aria-hidden="true">✕ </span>
                {says}
              </span>{' '}
              <span className="text-soft">{does}</span>
            </li>
          ))}
        </ul>
      )}
      <p className="mt-2 text-soft">
        {due + later + paused === 0
          ? 'Nobody waits in the queue.'
          : `In the queue: ${count(due)} devices whose turn has come, ${count(later)} for later, ${count(paused)} paused.`}
        {health.devicesPerSecond !== null && ` ${count(health.devicesPerSecond)} devices a second of late.`}
      </p>
    </section>
  )
}

const stateLooks = {
  open: { shape: '●', tone: 'text-sea', says: 'open' },
  resting: { shape: '◌', tone: 'text-amber', says: 'rests' },
  halted: { shape: '✕', tone: 'text-red', says: 'refuses the credential' },
} as const

function Gateways({ processes }: Pick<Health, 'processes'>) {
  const rows = processes.flatMap(({ id, pid, gateways }) => gateways.map((gateway) => ({ id, pid, gateway })))
  const several = processes.filter(({ gateways }) => gateways.length > 0).length > 1
  return (
    <section>
      <h2>Gateways</h2>
      {rows.length === 0 ? (
        <p className="mt-2 text-soft">No gateway has been needed since the service started.</p>
      ) : (
        <table className="mt-2 w-full">
          <thead>
            <tr>
              <th scope="col">Gateway</th>
              <th scope="col">State</th>
              <th scope="col" className="max-md:hidden">
                On their way
              </th>
              <th scope="col" className="max-md:hidden">
                Median
              </th>
              <th scope="col" className="max-md:hidden">
                99 in 100
              </th>
              <th scope="col" className="pe-0">
                Answers, last 5 min
              </th>
            </tr>
          </thead>
          <tbody>
            {rows.map(({ id, pid, gateway }) => {
              const looks = stateLooks[gateway.state]
              return (
                <tr key={`${id} ${nameGateway(gateway)}`}>
                  <td>
                    {nameGateway(gateway)}
                    <span className="block text-sm break-all text-soft">
                      {gateway.gateway ?? 'each browser’s own'}
                      {several && `, process ${pid}`}
                    </span>
                  </td>
                  <td className={looks.tone}>
                    <span aria-hidden="true">{looks.shape} </span>
                    {looks.says}
                    {gateway.restsUntil && (
                      <span className="block text-sm text-soft">
                        until <Moment at={gateway.restsUntil} />
                      </span>
                    )}
                  </td>
                  <td className="max-md:hidden">
                    {gateway.inFlight} of {gateway.inFlightLimit}
                  </td>
                  <td className="max-md:hidden">{gateway.medianMs === null ? '–' : span(gateway.medianMs)}</td>
                  <td className="max-md:hidden">{gateway.p99Ms === null ? '–' : span(gateway.p99Ms)}</td>
                  <td className="pe-0">
                    {Object.entries(gateway.answers)
                      .map(([name, count]) => `${count.toLocaleString('en')} ${name}`)
                      .join(', ') || '–'}
                  </td>
                </tr>
              )
            })}
          </tbody>
        </table>
      )}
    </section>
  )
}

function Jobs({ jobs }: Pick<Health, 'jobs'>) {
  return (
    <section>
      <h2>In the background</h2>
      <table className="mt-2 w-full max-w-4xl">
        <thead>
          <tr>
            <th scope="col">Job</th>
            <th scope="col" className="max-md:hidden">
              Every
            </th>
            <th scope="col">Last run</th>
            <th scope="col" className="max-md:hidden">
              Took
            </th>
            <th scope="col" className="pe-0">
              Result
            </th>
          </tr>
        </thead>
        <tbody>
          {jobs.map((job) => (
            <tr key={job.name}>
              <td className="font-mono text-sm leading-6">{job.name}</td>
              <td className="max-md:hidden">{span(job.everySeconds * 1_000)}</td>
              <td>{job.finishedAt === null ? 'not yet' : <Moment at={job.finishedAt} />}</td>
              <td className="max-md:hidden">{job.durationMs === null ? '–' : span(job.durationMs)}</td>
              <td className={job.error !== null ? 'pe-0 text-red' : job.finishedAt === null ? 'pe-0' : 'pe-0 text-sea'}>
                {job.error !== null ? `✕ ${job.error}` : job.finishedAt === null ? '–' : '● done'}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  )
}

function Processes({ health: { processes, databaseMs } }: { readonly health: Health }) {
  return (
    <section>
      <h2>Processes</h2>
      <table className="mt-2 w-full max-w-4xl">
        <thead>
          <tr>
            <th scope="col">Process</th>
            <th scope="col">Does</th>
            <th scope="col" className="max-md:hidden">
              Since
            </th>
            <th scope="col">Memory</th>
            <th scope="col" className="pe-0 max-md:hidden">
              Heard of
            </th>
          </tr>
        </thead>
        <tbody>
          {processes.map((one) => (
            <tr key={one.id}>
              <td className="font-mono text-sm leading-6 break-all">
                {one.host}:{one.pid}
              </td>
              <td>{one.does}</td>
              <td className="max-md:hidden">
                <Moment at={one.startedAt} />
              </td>
              <td>{Math.round(one.memoryMb)} MB</td>
              <td className="pe-0 max-md:hidden">
                <Moment at={one.seenAt} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="mt-2 text-soft">The database answers in {databaseMs} ms.</p>
    </section>
  )
}
