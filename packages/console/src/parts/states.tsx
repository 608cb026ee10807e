import type { Totals } from '@zbell/contract'
import { deliveryLooks, deliveryOrder, type Look, type Tone } from '@zbell/contract/words'

type State = keyof typeof deliveryLooks

/** The colour that repeats what a look says. */
export const toneText: Record<Tone, string> = {
  wait: 'text-amber',
  good: 'text-sea',
  quiet: 'text-soft',
  bad: 'text-red',
}
const fill: Record<State, string> = {
  queued: 'bg-line',
  accepted: 'bg-amber/70',
  received: 'bg-sea/40',
  shown: 'bg-sea/70',
  dismissed: 'bg-sea/55',
  opened: 'bg-sea',
  skipped: 'bg-soft/50',
  refused: 'bg-red',
  expired: 'bg-red/60',
  withdrawn: 'bg-soft/35',
}

/** A shape and a word, in the colour that says the same. */
export function LookWord({ look: { tone, shape, word } }: { readonly look: Look }) {
  return (
    <span className={`whitespace-nowrap ${toneText[tone]}`}>
      <span aria-hidden="true" className="inline-block w-5">
        {shape}
      </span>
      {word}
    </span>
  )
}

export const StateWord = ({ state }: { readonly state: State }) => <LookWord look={deliveryLooks[state]} />

/** All deliveries as one bar. Its words stand beside it, so the bar itself is silent. */
export function TotalsBar({ totals, tall = false }: { readonly totals: Totals; readonly tall?: boolean }) {
  const all = Math.max(totals.expanded, 1)
  return (
    <div
      aria-hidden="true"
      className={`flex w-full gap-px overflow-hidden rounded-full bg-sunken ${tall ? 'h-3' : 'h-1.5'}`}
    >
      {deliveryOrder
        .filter((state) => totals[state] > 0)
        .map((state) => (
          <div
            key={state}
            className={`${fill[state]} transition-[flex-grow] duration-300`}
            style={{ flexGrow: totals[state] / all, flexBasis: 0, minWidth: 3 }}
          />
        ))}
    </div>
  )
}

export function TotalsWords({ totals }: { readonly totals: Totals }) {
  return (
    <dl className="flex flex-wrap gap-x-8 gap-y-3">
      {deliveryOrder
        .filter((state) => totals[state] > 0)
        .map((state) => (
          <div key={state}>
            <dt>
              <StateWord state={state} />
            </dt>
            <dd className="text-2xl leading-tight font-semibold">{totals[state].toLocaleString('en')}</dd>
            <dd className="text-sm text-soft">{deliveryLooks[state].means}</dd>
          </div>
        ))}
    </dl>
  )
}
