import { lazy, Suspense, useState } from 'react'
import { Tabs } from './tabs.tsx'

/** One series of numbers over the same steps. */
export type Series = {
  readonly name: string
  /** One of the colours that mean something; shape and word say the same. */
  readonly colour: 'sea' | 'amber' | 'red' | 'soft' | 'brass' | 'ink'
  readonly values: readonly number[]
}

export type ChartProps = {
  /** What it shows, in a sentence: who hears the page gets this and the table. */
  readonly says: string
  /** Lines over time; bars that add up; bars side by side, which are compared. */
  readonly kind: 'lines' | 'bars' | 'beside'
  /** What each step is called, such as a day or a clock time. */
  readonly steps: readonly string[]
  readonly series: readonly Series[]
  readonly unit: string
  /** How a number is said, where the unit alone says too little. */
  readonly say?: (value: number) => string
  /** Each step up is ten times as much: for what is small and what is huge in one drawing. */
  readonly byTens?: boolean
  /** What the steps are, at the head of their column. */
  readonly stepIs?: string
}

const Drawing = lazy(() => import('./chart-drawing.tsx'))

/** Only the drawing, where the same numbers stand beside it as a table. */
export function Plot(props: ChartProps) {
  return (
    <figure>
      <figcaption className="sr-only">{props.says}</figcaption>
      <div className="h-64" aria-hidden="true">
        <Suspense fallback={<div className="h-full animate-wait rounded-control bg-sunken" />}>
          <Drawing {...props} />
        </Suspense>
      </div>
    </figure>
  )
}

/** Numbers over time, drawn for who looks and as a table for who reads: both are there, one at a time. */
export function Chart(props: ChartProps) {
  const { says, steps, series, unit, stepIs = 'When', say = (value) => value.toLocaleString('en') } = props
  const [view, setView] = useState<'drawing' | 'table'>('drawing')
  return (
    <Tabs
      label={says}
      value={view}
      onChange={setView}
      tabs={[
        { value: 'drawing', label: 'Drawing' },
        { value: 'table', label: 'Table' },
      ]}
    >
      {view === 'drawing' ? (
        <Plot {...props} />
      ) : (
        // biome-ignore lint/a11y/noNoninteractiveTabindex: whoever has no mouse scrolls it by the arrow keys
        <section className="max-h-64 overflow-auto" tabIndex={0} aria-label={says}>
          <table className="w-full">
            <thead className="sticky top-0 bg-ground">
              <tr>
                <th scope="col">{stepIs}</th>
                {series.map(({ name }) => (
                  <th key={name} scope="col" className="text-end!">
                    {name}, {unit}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {steps.map((step, i) => (
                <tr key={step}>
                  <th scope="row">{step}</th>
                  {series.map(({ name, values }) => (
                    <td key={name} className="text-end">
                      {say(values[i] ?? 0)}
                    </td>
                  ))}
                </tr>
              ))}
            </tbody>
          </table>
        </section>
      )}
    </Tabs>
  )
}
