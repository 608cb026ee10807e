import { useQuery } from '@tanstack/react-query'
import type { Day } from '@zbell/contract'
import { span } from '@zbell/contract/words'
import { useMemo, useState } from 'react'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { ChannelFilter } from '../channels/channel-filter.tsx'
import { Plot } from '../parts/chart.tsx'
import { type Column, DataTable } from '../parts/data-table.tsx'
import { Loaded } from '../parts/page.tsx'

const shownDays = 14
const againMs = 10_000
const counted = ['accepted', 'shown', 'opened', 'skipped', 'refused', 'expired'] as const
/** On a phone's width these three say most. */
const onPhone: readonly string[] = ['accepted', 'shown', 'refused']
const steps = {
  accepted: 'until taken',
  received: 'until arrived',
  shown: 'until shown',
  opened: 'until opened',
} as const

/** What each day brought, and of one of them how long each step took and why deliveries ended early. */
export function Days() {
  const place = usePlace()
  const [chosen, choose] = useState<string>()
  const [channel, setChannel] = useState('')
  const { data, error } = useQuery({
    queryKey: keys.days(place, shownDays, channel),
    queryFn: () => place.call('listDays', { query: { days: shownDays, ...(channel === '' ? {} : { channel }) } }),
    refetchInterval: againMs,
  })
  const days = [...(data?.items ?? [])].reverse()
  const day = days.find((one) => one.day === chosen) ?? days[0]
  return (
    <section>
      <div className="flex flex-wrap items-end justify-between gap-3">
        <h2>Days</h2>
        <ChannelFilter chosen={channel} onChoose={setChannel} />
      </div>
      <Loaded of={{ data, error }}>
        {() =>
          !day ? (
            <p className="mt-2 text-soft">Nothing was sent in the last {shownDays} days.</p>
          ) : (
            <div className="mt-2 grid grid-cols-[minmax(0,1fr)] gap-8">
              {days.length > 1 && <DayPlot days={days} />}
              <DayTable days={days} chosen={day.day} onChoose={choose} />
              <OneDay day={day} />
            </div>
          )
        }
      </Loaded>
    </section>
  )
}

type TableProps = {
  readonly days: readonly Day[]
  readonly chosen: string
  readonly onChoose: (day: string) => void
}

/** What the days brought, side by side; the table below has the numbers. */
function DayPlot({ days }: { readonly days: readonly Day[] }) {
  const inOrder = [...days].reverse()
  const of = (state: (typeof counted)[number]) => inOrder.map(({ counts }) => counts[state] ?? 0)
  return (
    <Plot
      says={`What became of the deliveries of the last ${inOrder.length} days`}
      kind="bars"
      unit="deliveries"
      steps={inOrder.map(({ day }) => day.slice(5))}
      series={[
        { name: 'shown', colour: 'sea', values: of('shown') },
        { name: 'skipped', colour: 'soft', values: of('skipped') },
        { name: 'expired', colour: 'amber', values: of('expired') },
        { name: 'refused', colour: 'red', values: of('refused') },
      ]}
    />
  )
}

function DayTable({ days, chosen, onChoose }: TableProps) {
  const columns = useMemo<readonly Column<Day>[]>(
    () => [
      {
        name: 'day',
        title: 'Day, UTC',
        always: true,
        cell: ({ day }) => (
          <button
            type="button"
            onClick={() => onChoose(day)}
            className={`cursor-pointer whitespace-nowrap underline ${day === chosen ? 'font-semibold' : ''}`}
          >
            {day === chosen && <span aria-hidden="true">▸ </span>}
            {day}
          </button>
        ),
      },
      ...counted.map((state) => ({
        name: state,
        title: state,
        align: 'end' as const,
        wide: !onPhone.includes(state),
        cell: ({ counts }: Day) => (counts[state] ?? 0).toLocaleString('en'),
      })),
    ],
    [chosen, onChoose],
  )
  return <DataTable label="Days" name="days" rows={days} idOf={({ day }) => day} columns={columns} current={chosen} />
}

type Duration = Day['steps'][number]

const durationColumns: readonly Column<Duration>[] = [
  { name: 'step', title: 'Step', always: true, cell: ({ step }) => steps[step] },
  { name: 'median', title: 'median', always: true, align: 'end', cell: ({ medianMs }) => span(medianMs) },
  { name: 'p90', title: 'p90', always: true, align: 'end', cell: ({ p90Ms }) => span(p90Ms) },
  { name: 'p99', title: 'p99', always: true, align: 'end', cell: ({ p99Ms }) => span(p99Ms) },
]

function OneDay({ day: { day, steps: durations, reasons } }: { readonly day: Day }) {
  return (
    <div className="max-w-2xl">
      <h3>How long it took on {day}</h3>
      {durations.length > 0 && (
        <div className="mt-2 grid gap-4">
          <Plot
            says={`How long each step took on ${day}: the median, p90 and p99`}
            kind="beside"
            byTens
            unit="ms"
            say={span}
            steps={durations.map(({ step }) => steps[step])}
            series={[
              { name: 'median', colour: 'sea', values: durations.map(({ medianMs }) => medianMs) },
              { name: 'p90', colour: 'brass', values: durations.map(({ p90Ms }) => p90Ms) },
              { name: 'p99', colour: 'soft', values: durations.map(({ p99Ms }) => p99Ms) },
            ]}
          />
          <DataTable
            label={`How long it took on ${day}`}
            name="durations"
            rows={durations}
            idOf={({ step }) => step}
            columns={durationColumns}
          />
        </div>
      )}
      {reasons.length > 0 && (
        <>
          <h3 className="mt-6">Why nobody saw them</h3>
          <ul className="mt-2 grid gap-2">
            {reasons.map(({ code, detail, remedy, count }) => (
              <li key={code}>
                <span className="font-semibold tabular-nums">{count.toLocaleString('en')}</span> {detail}{' '}
                <span className="text-sm text-soft">{remedy}</span>
              </li>
            ))}
          </ul>
        </>
      )}
    </div>
  )
}
