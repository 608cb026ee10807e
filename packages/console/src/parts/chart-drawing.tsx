import { Area, Bar, CartesianGrid, ComposedChart, Legend, ResponsiveContainer, Tooltip, XAxis, YAxis } from 'recharts'
import type { ChartProps } from './chart.tsx'

/** Dashes tell lines apart where colours do not. */
const dashes = ['', '6 4', '2 3', '10 4 2 4']

/** The drawing of a {@link Chart}, which comes when one is seen. */
export default function ChartDrawing({ kind, steps, series, unit, say, byTens = false }: ChartProps) {
  const words = say ?? ((value: number) => `${value.toLocaleString('en')} ${unit}`)
  const rows = steps.map((step, i) => ({
    step,
    ...Object.fromEntries(series.map((one) => [one.name, one.values[i] ?? 0])),
  }))
  const still = matchMedia('(prefers-reduced-motion: reduce)').matches
  return (
    <ResponsiveContainer width="100%" height="100%">
      {/* Its words and numbers stand beside it as a table, so nothing in it takes the focus. */}
      <ComposedChart accessibilityLayer={false} data={rows} margin={{ top: 8, right: 8, bottom: 0, left: 0 }}>
        <CartesianGrid vertical={false} stroke="var(--line)" />
        <XAxis
          dataKey="step"
          tickLine={false}
          stroke="var(--edge)"
          tick={{ fill: 'var(--soft)', fontSize: 13 }}
          minTickGap={24}
        />
        <YAxis
          tickLine={false}
          axisLine={false}
          width={56}
          allowDecimals={false}
          {...(byTens ? { scale: 'log' as const, domain: [0.5, 'auto'] as const, allowDataOverflow: true } : {})}
          tick={{ fill: 'var(--soft)', fontSize: 13 }}
          tickFormatter={(value: number) =>
            say?.(value) ?? Intl.NumberFormat('en', { notation: 'compact' }).format(value)
          }
        />
        <Tooltip
          isAnimationActive={!still}
          cursor={{ fill: 'var(--sunken)', stroke: 'var(--edge)' }}
          formatter={(value) => words(Number(value))}
          contentStyle={{
            background: 'var(--raised)',
            border: '1px solid var(--line)',
            borderRadius: 6,
            color: 'var(--ink)',
          }}
          itemStyle={{ color: 'var(--ink)' }}
        />
        <Legend
          iconType={kind === 'lines' ? 'plainline' : 'square'}
          itemSorter={null}
          formatter={(name: string) => <span style={{ color: 'var(--ink)' }}>{name}</span>}
        />
        {series.map(({ name, colour }, i) =>
          kind !== 'lines' ? (
            <Bar
              key={name}
              dataKey={name}
              {...(kind === 'bars' ? { stackId: 'all' } : {})}
              fill={`var(--${colour})`}
              isAnimationActive={false}
              maxBarSize={36}
            />
          ) : (
            <Area
              key={name}
              type="monotone"
              dataKey={name}
              stroke={`var(--${colour})`}
              strokeWidth={2}
              strokeDasharray={dashes[i % dashes.length]!}
              fill={`var(--${colour})`}
              fillOpacity={0.08}
              dot={false}
              isAnimationActive={false}
            />
          ),
        )}
      </ComposedChart>
    </ResponsiveContainer>
  )
}
