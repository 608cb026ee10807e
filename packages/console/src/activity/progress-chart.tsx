import type { Progress } from '@zbell/contract'
import { span } from '@zbell/contract/words'

const lines = [
  { state: 'accepted', word: 'accepted', dash: '6 4', stroke: 'var(--amber)' },
  { state: 'shown', word: 'shown', dash: '', stroke: 'var(--sea)' },
  { state: 'opened', word: 'opened', dash: '2 3', stroke: 'var(--ink)' },
] as const

const width = 640
const height = 150
const right = 110

/** How many had come so far, over time: one line each for what gateways took, what was shown and what was opened. */
export function ProgressChart({ progress, startedAt }: { readonly progress: Progress; readonly startedAt: string }) {
  const { steps, stepSeconds } = progress
  const last = steps.at(-1)
  if (!last) return null
  const startMs = Math.floor(Date.parse(startedAt) / 1_000) * 1_000
  const endMs = Math.max(Date.parse(last.at) + stepSeconds * 1_000, startMs + stepSeconds * 1_000)
  const drawn = lines.map((line) => {
    let sum = 0
    const points: [number, number][] = [[startMs, 0]]
    for (const { at, counts } of steps) {
      const more = counts[line.state] ?? 0
      if (more === 0) continue
      points.push([Date.parse(at), sum])
      sum += more
      points.push([Date.parse(at) + stepSeconds * 1_000, sum])
    }
    points.push([endMs, sum])
    return { ...line, points, sum }
  })
  const most = Math.max(1, ...drawn.map(({ sum }) => sum))
  const x = (ms: number) => ((ms - startMs) / (endMs - startMs)) * (width - right)
  const y = (count: number) => height - (count / most) * (height - 12)
  const shown = drawn.filter(({ sum }) => sum > 0).sort((a, b) => b.sum - a.sum)
  const words = shown.map(({ word, sum }) => `${sum.toLocaleString('en')} ${word}`).join(', ')
  let labelY = Number.NEGATIVE_INFINITY
  return (
    <figure className="max-w-3xl">
      <svg
        viewBox={`0 0 ${width} ${height + 22}`}
        className="w-full"
        role="img"
        aria-label={`Within ${span(endMs - startMs)}: ${words}`}
      >
        <line x1="0" x2={width - right} y1={height} y2={height} stroke="var(--line)" />
        {shown.map(({ state, points, dash, stroke }) => (
          <polyline
            key={state}
            points={points.map(([ms, count]) => `${x(ms).toFixed(1)},${y(count).toFixed(1)}`).join(' ')}
            fill="none"
            stroke={stroke}
            strokeWidth="2"
            strokeDasharray={dash}
          />
        ))}
        {shown.map(({ state, word, sum, stroke }) => {
          labelY = Math.max(y(sum) + 4, labelY + 16)
          return (
            <text key={state} x={width - right + 8} y={labelY} fontSize="13" fill={stroke}>
              {sum.toLocaleString('en')} {word}
            </text>
          )
        })}
        <text x="0" y={height + 18} fontSize="12" fill="var(--soft)">
          sent
        </text>
        <text x={width - right} y={height + 18} fontSize="12" fill="var(--soft)" textAnchor="end">
          {span(endMs - startMs)} later
        </text>
      </svg>
    </figure>
  )
}
