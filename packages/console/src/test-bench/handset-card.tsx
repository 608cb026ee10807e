import { useMutation, useQueryClient } from '@tanstack/react-query'
import type { Handset, HandsetAct, HandsetChange } from '@zbell/contract'
import { useNavigate } from 'react-router'
import { api } from '../app/api.ts'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { Moment } from '../parts/moment.tsx'
import { Failure } from '../parts/page.tsx'
import { Screen } from './screen.tsx'

const small =
  'rounded-md border border-line px-2.5 py-1 text-sm hover:bg-sunken disabled:opacity-60 cursor-pointer aria-pressed:border-ink aria-pressed:bg-ink aria-pressed:text-ground'

/** What a handset answers to: a change of how it is, or something done with it. */
type Hand = { readonly change: HandsetChange } | { readonly act: HandsetAct }

export function HandsetCard({ handset }: { readonly handset: Handset }) {
  const place = usePlace()
  const client = useQueryClient()
  const params = { app: place.app.slug, id: handset.id }
  const query = { environment: place.environment }
  const hand = useMutation({
    mutationFn: (given: Hand) =>
      'change' in given
        ? api.call('changeHandset', { params, query, body: given.change as never })
        : api.call('actOnHandset', { params, query, body: given.act as never }),
    onSettled: () => client.invalidateQueries({ queryKey: keys.handsets(place) }),
  })
  const change = (given: HandsetChange) => hand.mutate({ change: given })
  const act = (given: HandsetAct) => hand.mutate({ act: given })
  return (
    <article aria-labelledby={`handset-${handset.id}`}>
      <h2 id={`handset-${handset.id}`} className="flex items-baseline justify-between gap-3">
        {handset.id}
        <span className="text-sm font-normal text-soft">
          {handset.model}, {handset.user ?? 'nobody'}’s
        </span>
      </h2>
      <Screen handset={handset} onTap={(notification, action) => act({ do: 'tap', notification, action })} />
      <div className="mt-3 grid gap-2">
        {handset.installed && handset.permission === 'prompt' && (
          <Prompt onAnswer={(answer) => act({ do: 'ask', answer })} />
        )}
        <fieldset className="flex flex-wrap gap-1.5" disabled={!handset.installed}>
          <legend className="sr-only">The app on {handset.id}</legend>
          {(['closed', 'behind', 'front'] as const).map((state) => (
            <button
              key={state}
              type="button"
              className={small}
              aria-pressed={handset.appState === state}
              onClick={() => change({ appState: state })}
            >
              app {state}
            </button>
          ))}
        </fieldset>
        <div className="flex flex-wrap gap-1.5">
          <Switch on={!handset.online} text="no network" set={(off) => change({ online: !off })} />
          <Switch on={handset.doNotDisturb} text="do not disturb" set={(on) => change({ doNotDisturb: on })} />
          <Switch on={handset.lowPower} text="low power" set={(on) => change({ lowPower: on })} />
          <Switch on={handset.muted} text="muted" set={(on) => change({ muted: on })} />
        </div>
        <div className="flex flex-wrap gap-1.5">
          <RingThis handset={handset} />
          {handset.permission !== 'prompt' && (
            <button
              type="button"
              className={small}
              onClick={() => change({ permission: handset.permission === 'granted' ? 'denied' : 'granted' })}
            >
              {handset.permission === 'granted' ? 'Deny in settings' : 'Allow in settings'}
            </button>
          )}
          <button type="button" className={small} onClick={() => change({ locked: !handset.locked })}>
            {handset.locked ? 'Unlock' : 'Lock'}
          </button>
          <button type="button" className={small} onClick={() => act({ do: 'reboot' })}>
            Restart
          </button>
          <button type="button" className={small} onClick={() => act({ do: handset.installed ? 'remove' : 'install' })}>
            {handset.installed ? 'Remove the app' : 'Install the app'}
          </button>
        </div>
        {hand.error && <Failure error={hand.error} />}
        <Log handset={handset} />
      </div>
    </article>
  )
}

function Switch({
  on,
  text,
  set,
}: {
  readonly on: boolean
  readonly text: string
  readonly set: (on: boolean) => void
}) {
  return (
    <button type="button" className={small} aria-pressed={on} onClick={() => set(!on)}>
      {text}
    </button>
  )
}

function Prompt({ onAnswer }: { readonly onAnswer: (answer: 'granted' | 'denied') => void }) {
  return (
    <div className="flex flex-wrap items-center gap-1.5">
      <p className="me-1 text-sm">The app asks to ring:</p>
      <button type="button" className={small} onClick={() => onAnswer('granted')}>
        Allow
      </button>
      <button type="button" className={small} onClick={() => onAnswer('denied')}>
        Say no
      </button>
    </div>
  )
}

/** To this one device, through the service and its gateway. */
function RingThis({ handset }: { readonly handset: Handset }) {
  const go = useNavigate()
  if (handset.device === null) return null
  return (
    <button type="button" className={small} onClick={() => void go(`/write?to=device:${handset.device}`)}>
      Ring this one
    </button>
  )
}

function Log({ handset }: { readonly handset: Handset }) {
  if (handset.log.length === 0) return null
  return (
    <details className="text-sm">
      <summary className="cursor-pointer text-soft">What happened to it</summary>
      <ol className="mt-1 max-h-48 overflow-y-auto">
        {handset.log.slice(0, 40).map(({ at, what }) => (
          <li key={`${at} ${what}`} className="border-t border-line py-1">
            <span className="text-soft">
              <Moment at={at} />
            </span>{' '}
            <bdi>{what}</bdi>
          </li>
        ))}
      </ol>
    </details>
  )
}
