import { useMutation, useQueryClient } from '@tanstack/react-query'
import type { Handset, HandsetAct, HandsetChange } from '@zbell/contract'
import { Bell, BellOff, Download, RotateCw, Trash2 } from 'lucide-react'
import { type ReactNode, useState } from 'react'
import { useNavigate } from 'react-router'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { More } from '../parts/disclosure.tsx'
import { Menu, type MenuEntry } from '../parts/menu.tsx'
import { Moment } from '../parts/moment.tsx'
import { Failure } from '../parts/page.tsx'
import { Segments } from '../parts/toggles.tsx'
import { Screen } from './screen.tsx'

const small =
  'rounded-control border border-edge px-2 py-1 text-sm hover:bg-sunken disabled:opacity-60 cursor-pointer aria-pressed:border-ink aria-pressed:bg-ink aria-pressed:text-ground'

/** What a handset answers to: a change of how it is, or something done with it. */
type Hand = { readonly change: HandsetChange } | { readonly act: HandsetAct }

export function HandsetCard({ handset }: { readonly handset: Handset }) {
  const place = usePlace()
  const client = useQueryClient()
  const params = { id: handset.id }
  const hand = useMutation({
    mutationFn: (given: Hand) =>
      'change' in given
        ? place.call('changeHandset', { params, body: given.change as never })
        : place.call('actOnHandset', { params, body: given.act as never }),
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
      <div className="mt-4 grid gap-3">
        {handset.installed && handset.permission === 'prompt' && (
          <Prompt onAnswer={(answer) => act({ do: 'ask', answer })} />
        )}
        <Hands name="The app">
          <div className="w-48">
            <Segments
              label="The app is"
              value={handset.installed ? handset.appState : ''}
              options={appStates}
              disabled={!handset.installed}
              onChange={(state) => change({ appState: state })}
            />
          </div>
          <Switch on={handset.muted} text="muted" set={(on) => change({ muted: on })} />
        </Hands>
        <Hands name="The phone">
          <Switch on={!handset.online} text="no network" set={(off) => change({ online: !off })} />
          <Switch on={handset.doNotDisturb} text="do not disturb" set={(on) => change({ doNotDisturb: on })} />
          <Switch on={handset.lowPower} text="low power" set={(on) => change({ lowPower: on })} />
        </Hands>
        <Hands name="Do">
          <RingThis handset={handset} />
          <Do text={handset.locked ? 'Unlock' : 'Lock'} act={() => change({ locked: !handset.locked })} />
          <Menu
            trigger={
              <button type="button" className={small}>
                More
              </button>
            }
            entries={[
              ...(handset.permission === 'prompt' ? [] : [inSettings(handset.permission, change)]),
              { label: 'Restart', icon: RotateCw, onSelect: () => act({ do: 'reboot' }) },
              handset.installed
                ? { label: 'Remove the app', icon: Trash2, danger: true, onSelect: () => act({ do: 'remove' }) }
                : { label: 'Install the app', icon: Download, onSelect: () => act({ do: 'install' }) },
            ]}
          />
        </Hands>
        {hand.error && <Failure error={hand.error} />}
        <Log handset={handset} />
      </div>
    </article>
  )
}

const appStates = ['closed', 'behind', 'front'] as const

/** What a person does about it in the settings of their phone. */
const inSettings = (permission: 'granted' | 'denied', change: (given: HandsetChange) => void): MenuEntry =>
  permission === 'granted'
    ? { label: 'Deny in settings', icon: BellOff, onSelect: () => change({ permission: 'denied' }) }
    : { label: 'Allow in settings', icon: Bell, onSelect: () => change({ permission: 'granted' }) }

/** Controls that belong together, with what they are of. */
function Hands({ name, children }: { readonly name: string; readonly children: ReactNode }) {
  return (
    <fieldset>
      <legend className="mb-1 text-sm text-soft">{name}</legend>
      <div className="flex flex-wrap gap-1">{children}</div>
    </fieldset>
  )
}

type SwitchProps = {
  readonly on: boolean
  readonly text: string
  readonly disabled?: boolean
  readonly set: (on: boolean) => void
}

function Switch({ on, text, disabled, set }: SwitchProps) {
  return (
    <button type="button" className={small} aria-pressed={on} disabled={disabled} onClick={() => set(!on)}>
      {text}
    </button>
  )
}

const Do = ({ text, act }: { readonly text: string; readonly act: () => void }) => (
  <button type="button" className={small} onClick={act}>
    {text}
  </button>
)

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
  const [open, setOpen] = useState(false)
  if (handset.log.length === 0) return null
  return (
    <More title="What happened to it" open={open} onOpenChange={setOpen}>
      <ol className="max-h-48 overflow-y-auto text-sm">
        {handset.log.slice(0, 40).map(({ at, what }) => (
          <li key={`${at} ${what}`} className="border-t border-line py-1">
            <span className="text-soft">
              <Moment at={at} />
            </span>{' '}
            <bdi>{what}</bdi>
          </li>
        ))}
      </ol>
    </More>
  )
}
