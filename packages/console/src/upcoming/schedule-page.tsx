import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import type { Schedule, ScheduleRun } from '@zbell/contract'
import { sayTarget, sayWhen } from '@zbell/contract/words'
import { Link, useNavigate, useParams } from 'react-router'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { useSeen } from '../app/seen.ts'
import { Button } from '../parts/button.tsx'
import { type Column, DataTable } from '../parts/data-table.tsx'
import { Confirm } from '../parts/dialog.tsx'
import { type Fact, Facts } from '../parts/facts.tsx'
import { Moment, ownZone } from '../parts/moment.tsx'
import { Failure, Loaded, Page } from '../parts/page.tsx'
import { exactIn } from './when-field.tsx'

/** One schedule: when it rings next, for how many, what became of its times, and what can be done with it. */
export function SchedulePage() {
  const place = usePlace()
  const { name = '' } = useParams()
  const at = { params: { schedule: name } }
  const schedule = useQuery({
    queryKey: [...keys.schedules(place), 'one', name],
    queryFn: () => place.call('readSchedule', at),
    refetchInterval: 10_000,
  })
  const runs = useQuery({
    queryKey: [...keys.schedules(place), 'runs', name],
    queryFn: () => place.call('listRuns', { ...at, query: { limit: '50' } }),
    refetchInterval: 10_000,
  })
  useSeen('schedule', schedule.data?.name)
  return (
    <Page
      title={name}
      asks="When does it ring, and what became of its times?"
      crumbs={[{ to: '/upcoming', name: 'Upcoming' }]}
      action={schedule.data && <Acts schedule={schedule.data} />}
    >
      <Loaded of={schedule}>
        {(data) => (
          <div className="grid gap-10">
            <Details schedule={data} />
            <section aria-labelledby="runs">
              <h2 id="runs" className="mb-2">
                What became of its times
              </h2>
              {runs.error ? (
                <Failure error={runs.error} />
              ) : (
                <DataTable
                  label="Runs"
                  name="runs"
                  rows={runs.data?.items ?? []}
                  idOf={({ dueAt }) => dueAt}
                  columns={columns}
                  none="It has not rung yet."
                />
              )}
            </section>
          </div>
        )}
      </Loaded>
    </Page>
  )
}

const looks: Readonly<Record<ScheduleRun['state'], string>> = {
  rung: 'text-sea',
  missed: 'text-red',
  failed: 'text-red',
  skipped: 'text-soft',
}

/** One that was left out before it came. */
const isAhead = (iso: string): boolean => Date.parse(iso) > Date.now()

const columns: readonly Column<ScheduleRun>[] = [
  {
    name: 'due',
    title: 'Due',
    always: true,
    width: 180,
    cell: ({ dueAt }) => (isAhead(dueAt) ? exactIn(dueAt, ownZone) : <Moment at={dueAt} />),
  },
  {
    name: 'became',
    title: 'Result',
    always: true,
    width: 120,
    cell: ({ state }) => <span className={looks[state]}>{state}</span>,
  },
  {
    name: 'what',
    title: 'Last result',
    always: true,
    cell: ({ notification, says }) => (
      <>
        {notification && <Link to={`/activity/${notification}`}>The notification</Link>} {says}
      </>
    ),
  },
]

function Details({
  schedule: { when, notification, shows, nextAt, paused, skipped },
}: {
  readonly schedule: Schedule
}) {
  const request = notification as unknown as { readonly to: Parameters<typeof sayTarget>[0] }
  const facts: readonly Fact[] = [
    ['Shows', <bdi key="shows">{shows.title || 'Wakes the app'}</bdi>],
    [
      'For',
      <span key="for" className="font-mono text-sm">
        {sayTarget(request.to)}
      </span>,
    ],
    ['Rings', sayWhen(when)],
    ['Next', paused ? 'paused' : nextAt === null ? 'over' : <Next key="next" at={nextAt} zone={when.zone} />],
    ...(skipped.length === 0
      ? []
      : ([['Left out', skipped.map((at) => exactIn(at, ownZone)).join('; ')]] satisfies Fact[])),
    ['Would reach', <ReachNow key="reach" notification={notification} />],
  ]
  return <Facts all={facts} />
}

function Next({ at, zone }: { readonly at: string; readonly zone: string | undefined }) {
  return (
    <>
      {exactIn(at, ownZone)} by your clock
      {zone === 'reader' && ', for the first readers on Earth'}
      {zone !== undefined && zone !== 'reader' && zone !== ownZone && `, ${exactIn(at, zone)} in ${zone}`}
    </>
  )
}

/** How many it would ring as of now; whom its target names is found anew at each time. */
function ReachNow({ notification }: { readonly notification: unknown }) {
  const place = usePlace()
  const { data } = useQuery({
    queryKey: [...keys.schedules(place), 'reach', JSON.stringify(notification)],
    queryFn: () => place.call('reviewNotification', { body: notification as never }),
    retry: false,
  })
  if (!data) return null
  const devices = data.devices.ios + data.devices.android + data.devices.web
  return (
    <>
      {data.estimated && 'about '}
      {devices.toLocaleString('en')} {devices === 1 ? 'device' : 'devices'} of {data.people.toLocaleString('en')}{' '}
      {data.people === 1 ? 'person' : 'people'} as of now
    </>
  )
}

function Acts({ schedule: { name, paused, nextAt } }: { readonly schedule: Schedule }) {
  const place = usePlace()
  const client = useQueryClient()
  const go = useNavigate()
  const at = { params: { schedule: name } }
  const anew = () => client.invalidateQueries({ queryKey: keys.schedules(place) })
  const change = useMutation({
    mutationFn: async (act: 'pause' | 'resume' | 'skip' | 'run') => {
      if (act === 'skip') await place.call('skipRun', at)
      else if (act === 'run') await place.call('runSchedule', at)
      else await place.call('changeSchedule', { ...at, body: { paused: act === 'pause' } })
    },
    onSettled: anew,
  })
  const cancel = useMutation({
    mutationFn: () => place.call('deleteSchedule', at),
    onSuccess: async () => {
      await go('/upcoming')
      await anew()
    },
  })
  const error = change.error ?? cancel.error
  return (
    <>
      {error && <Failure error={error} />}
      <Button disabled={change.isPending} onClick={() => change.mutate(paused ? 'resume' : 'pause')}>
        {paused ? 'Go on' : 'Pause'}
      </Button>
      <Button disabled={change.isPending || paused || nextAt === null} onClick={() => change.mutate('skip')}>
        Skip the next
      </Button>
      <Button disabled={change.isPending} onClick={() => change.mutate('run')}>
        Ring now
      </Button>
      <Confirm
        title={`Cancel ${name}?`}
        yes="Cancel it"
        onYes={() => cancel.mutate()}
        trigger={<Button rank="danger">Cancel</Button>}
      >
        It does not ring any more. What it has rung stays as it is.
      </Confirm>
    </>
  )
}
