import { useQuery } from '@tanstack/react-query'
import type { Day } from '@zbell/contract'
import { span } from '@zbell/contract/words'
import { useState } from 'react'
import { api } from '../app/api.ts'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { Plot } from '../parts/chart.tsx'
import { Failure, Waiting } from '../parts/page.tsx'

const shownDays = 14
const againMs = 10_000
const counted = ['accepted', 'shown', 'opened', 'skipped', 'refused', 'expired'] as const
/** On a phone's width these three say most. */
const always: readonly string[] = ['accepted', 'shown', 'refused']
const onlyWide = (state: string) => (always.includes(state) ? '' : 'max-md:hidden')
const steps = {
  accepted: 'until taken',
  received: 'until arrived',
  shown: 'until shown',
  opened: 'until opened',
} as const

/** What each day brought, and of one of them how long each step took and why deliveries ended early. */
export function Days() {
  const place = usePlace()
  const { app, environment } = place
  const [chosen, choose] = useState<string>()
  const { data, error } = useQuery({
    queryKey: keys.days(place, shownDays),
    queryFn: () => api.call('listDays', { params: { app: app.slug }, query: { environment, days: shownDays } }),
    refetchInterval: againMs,
  })
  const days = [...(data?.items ?? [])].reverse()
  const day = days.find((one) => one.day === chosen) ?? days[0]
  return (
    <section>
      <h2>Days</h2>
      {error ? (
        <Failure error={error} />
      ) : !data ? (
        <Waiting />
      ) : !day ? (
        <p className="mt-2 text-soft">Nothing was sent in the last {shownDays} days.</p>
      ) : (
        <div className="mt-2 grid grid-cols-[minmax(0,1fr)] gap-8">
          {days.length > 1 && <DayPlot days={days} />}
          <DayTable days={days} chosen={day.day} onChoose={choose} />
          <OneDay day={day} />
        </div>
      )}
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
  const most = Math.max(1, ...days.map(({ counts }) => counts.accepted ?? 0))
  return (
    <table className="w-full max-w-4xl">
      <thead>
        <tr>
          <th scope="col">Day, UTC</th>
          {counted.map((state) => (
            <th key={state} scope="col" className={`text-end! ${onlyWide(state)}`}>
              {state}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {days.map(({ day, counts }) => (
          <tr key={day} aria-current={day === chosen ? 'date' : undefined}>
            <td>
              <button
                type="button"
                onClick={() => onChoose(day)}
                className={`cursor-pointer whitespace-nowrap underline ${day === chosen ? 'font-semibold' : ''}`}
              >
                {day === chosen && <span aria-hidden="true">▸ </span>}
                {day}
              </button>
              <span
                aria-hidden="true"
                className="mt-1 block h-1 rounded-full bg-amber/70"
                style={{ width: `${((counts.accepted ?? 0) / most) * 100}%` }}
              />
            </td>
            {counted.map((state) => (
              <td key={state} className={`text-end tabular-nums ${onlyWide(state)}`}>
                {(counts[state] ?? 0).toLocaleString('en')}
              </td>
            ))}
          </tr>
        ))}
      </tbody>
    </table>
  )
}

function OneDay({ day: { day, steps: durations, reasons } }: { readonly day: Day }) {
  return (
    <div className="max-w-2xl">
      <h3>How long it took on {day}</h3>
      <table className="mt-2 w-full">
        <thead>
          <tr>
            <th scope="col">Step</th>
            <th scope="col" className="text-end!">
              median
            </th>
            <th scope="col" className="text-end!">
              9 in 10
            </th>
            <th scope="col" className="pe-0! text-end!">
              99 in 100
            </th>
          </tr>
        </thead>
        <tbody>
          {durations.map(({ step, medianMs, p90Ms, p99Ms }) => (
            <tr key={step}>
              <td>{steps[step]}</td>
              <td className="text-end whitespace-nowrap">{span(medianMs)}</td>
              <td className="text-end whitespace-nowrap">{span(p90Ms)}</td>
              <td className="pe-0! text-end whitespace-nowrap">{span(p99Ms)}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {reasons.length > 0 && (
        <>
          <h3 className="mt-6">Why nobody saw them</h3>
          <ul className="mt-2 grid gap-2">
            {reasons.map(({ code, says, does, count }) => (
              <li key={code}>
                <span className="font-semibold tabular-nums">{count.toLocaleString('en')}</span> {says}{' '}
                <span className="text-sm text-soft">{does}</span>
              </li>
            ))}
          </ul>
        </>
      )}
    </div>
  )
}
