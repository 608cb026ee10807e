import type { Delivery, Totals } from '@zbell/contract'

type State = Delivery['state']
type Tone = 'wait' | 'good' | 'quiet' | 'bad'

/** In the order of a delivery's road. A state always has a shape and a word; its colour only repeats them. */
export const stateLooks: Record<State, { readonly tone: Tone; readonly shape: string; readonly means: string }> = {
  queued: { tone: 'wait', shape: '◌', means: 'waits for its turn' },
  accepted: { tone: 'wait', shape: '◔', means: 'the gateway took it' },
  received: { tone: 'good', shape: '◑', means: 'arrived on the device' },
  shown: { tone: 'good', shape: '●', means: 'was shown' },
  dismissed: { tone: 'good', shape: '◓', means: 'was put away' },
  opened: { tone: 'good', shape: '◉', means: 'was opened' },
  skipped: { tone: 'quiet', shape: '–', means: 'was not sent, on purpose' },
  refused: { tone: 'bad', shape: '✕', means: 'the gateway said no' },
  expired: { tone: 'bad', shape: '⧖', means: 'ran out of time' },
  withdrawn: { tone: 'quiet', shape: '↶', means: 'was taken back' },
}
export const stateOrder = Object.keys(stateLooks) as State[]

const text: Record<Tone, string> = { wait: 'text-amber', good: 'text-sea', quiet: 'text-soft', bad: 'text-red' }
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

export function StateWord({ state }: { readonly state: State }) {
  const { tone, shape } = stateLooks[state]
  return (
    <span className={`whitespace-nowrap ${text[tone]}`}>
      <span aria-hidden="true" className="inline-block w-5">
        {shape}
      </span>
      {state}
    </span>
  )
}

/** All deliveries as one bar. Its words stand beside it, so the bar itself is silent. */
export function TotalsBar({ totals, tall = false }: { readonly totals: Totals; readonly tall?: boolean }) {
  const all = Math.max(totals.expanded, 1)
  return (
    <div
      aria-hidden="true"
      className={`flex w-full gap-px overflow-hidden rounded-full bg-sunken ${tall ? 'h-3' : 'h-1.5'}`}
    >
      {stateOrder
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
      {stateOrder
        .filter((state) => totals[state] > 0)
        .map((state) => (
          <div key={state}>
            <dt>
              <StateWord state={state} />
            </dt>
            <dd className="text-2xl leading-tight font-semibold">{totals[state].toLocaleString('en')}</dd>
            <dd className="text-sm text-soft">{stateLooks[state].means}</dd>
          </div>
        ))}
    </dl>
  )
}
