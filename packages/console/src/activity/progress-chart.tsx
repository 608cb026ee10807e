import type { Progress } from '@zbell/contract'
import { span } from '@zbell/contract/words'
import { Chart } from '../parts/chart.tsx'

const lines = [
  { state: 'accepted', colour: 'amber' },
  { state: 'shown', colour: 'sea' },
  { state: 'opened', colour: 'ink' },
] as const

/** How many had come so far, over time: one line each for what gateways took, what was shown and what was opened. */
export function ProgressChart({ progress, startedAt }: { readonly progress: Progress; readonly startedAt: string }) {
  const { steps, stepSeconds } = progress
  const startMs = Math.floor(Date.parse(startedAt) / 1_000) * 1_000
  const series = lines
    .map(({ state, colour }) => {
      let sum = 0
      const values = steps.map(({ counts }) => {
        sum += counts[state] ?? 0
        return sum
      })
      return { name: state, colour, values: [0, ...values], sum }
    })
    .filter(({ sum }) => sum > 0)
  const ends = steps.map(({ at }) => Date.parse(at) + stepSeconds * 1_000 - startMs)
  const words = series.map(({ name, sum }) => `${sum.toLocaleString('en')} ${name}`).join(', ')
  return (
    <div className="max-w-3xl">
      <Chart
        says={`Within ${span(ends.at(-1) ?? 0)}: ${words}`}
        kind="lines"
        unit="devices"
        stepIs="After"
        steps={['0 s', ...ends.map(span)]}
        series={series}
      />
    </div>
  )
}
