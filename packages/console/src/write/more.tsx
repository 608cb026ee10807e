import { span } from '@zbell/contract/words'
import { Plus, X } from 'lucide-react'
import { useChannels } from '../channels/use-channels.ts'
import { Button, IconButton } from '../parts/button.tsx'
import { Fault, Field, Warnings } from '../parts/field.tsx'
import { type Option, Select } from '../parts/select.tsx'
import type { Draft, Button as DraftButton } from './draft.ts'

const lifetimes = [
  [0, '1 day, or as its channel says'],
  [900, '15 minutes'],
  [3_600, '1 hour'],
  [21_600, '6 hours'],
  [86_400, '1 day'],
  [604_800, '1 week'],
] as const

const spreads = [
  [0, 'at once'],
  [600, 'over 10 minutes'],
  [1_800, 'over half an hour'],
  [3_600, 'over an hour'],
  [14_400, 'over 4 hours'],
] as const

const urgencies = [
  { value: '', label: 'normal, or as its channel says' },
  { value: 'very-low', label: 'very low', note: 'on power and Wi-Fi' },
  { value: 'low', label: 'low', note: 'on power or Wi-Fi' },
  { value: 'normal', label: 'normal', note: 'neither power nor Wi-Fi needed' },
  { value: 'high', label: 'high', note: 'also when the battery is low' },
] as const

/** What a copied notification has beside the usual ones is there as well. */
const secondsOptions = (usual: readonly (readonly [number, string])[], own: number): readonly Option<string>[] => [
  ...usual.map(([seconds, label]) => ({ value: String(seconds), label })),
  ...(usual.some(([seconds]) => seconds === own) ? [] : [{ value: String(own), label: span(own * 1_000) }]),
]

type Props = {
  readonly draft: Draft
  readonly set: (part: Partial<Draft>) => void
  readonly faults: { readonly [field: string]: string }
  readonly warnings: { readonly [field: string]: readonly string[] }
}

/** Where it leads, how it behaves, and when it goes. */
export function More({ draft, set, faults, warnings }: Props) {
  const text = (
    name: 'navigate' | 'tag' | 'group' | 'sound' | 'image',
    label: string,
    hint: string,
    example: string,
  ) => (
    <Field label={label} hint={hint} fault={faults[name]} warnings={warnings[name]}>
      {(props) => (
        <input
          {...props}
          className="font-mono"
          value={draft[name]}
          onChange={(e) => set({ [name]: e.target.value })}
          placeholder={example}
        />
      )}
    </Field>
  )
  return (
    <div className="grid gap-5 sm:grid-cols-2">
      {text('navigate', 'Where a tap leads', 'A path in the app, or an address', '/sailings/101')}
      {text('image', 'Picture', 'Its address; https', 'https://…/kittiwake.png')}
      {text('tag', 'Tag', 'Takes the place of an earlier one with this tag', 'sailing-101')}
      {text('group', 'Group', 'Lies together with others of it', 'route-4')}
      {text('sound', 'Sound', 'default, none, or one of the app’s by name', 'horn')}
      <ChannelField draft={draft} set={set} fault={faults.channel} />
      <Field label="Urgency" hint="High wakes a sleeping phone" fault={faults.urgency}>
        {(props) => (
          <Select {...props} value={draft.urgency} options={urgencies} onChange={(urgency) => set({ urgency })} />
        )}
      </Field>
      <Field label="Good for" hint="After that it is not delivered any more" fault={faults.ttlSeconds}>
        {(props) => (
          <Select
            {...props}
            value={String(draft.ttlSeconds)}
            options={secondsOptions(lifetimes, draft.ttlSeconds)}
            onChange={(seconds) => set({ ttlSeconds: Number(seconds) })}
          />
        )}
      </Field>
      <Field label="Goes out" hint="Slower is kinder to what a tap opens" fault={faults.spreadSeconds}>
        {(props) => (
          <Select
            {...props}
            value={String(draft.spreadSeconds)}
            options={secondsOptions(spreads, draft.spreadSeconds)}
            onChange={(seconds) => set({ spreadSeconds: Number(seconds) })}
          />
        )}
      </Field>
      <Buttons draft={draft} set={set} faults={faults} warnings={warnings} />
    </div>
  )
}

/** The kind of notification that it is, where the app declares kinds. */
function ChannelField({ draft, set, fault }: Pick<Props, 'draft' | 'set'> & { readonly fault: string | undefined }) {
  const { data = [] } = useChannels()
  if (data.length === 0 && draft.channel === '') return null
  const options = [
    { value: '', label: 'of no channel' },
    ...data.map(({ channel, title, note }) => ({ value: channel, label: title, ...(note ? { note } : {}) })),
    ...(draft.channel === '' || data.some(({ channel }) => channel === draft.channel)
      ? []
      : [{ value: draft.channel, label: draft.channel }]),
  ]
  return (
    <Field label="Channel" hint="The kind that it is; people mute kinds" fault={fault}>
      {(props) => (
        <Select {...props} value={draft.channel} options={options} onChange={(channel) => set({ channel })} />
      )}
    </Field>
  )
}

function Buttons({ draft, set, faults, warnings }: Props) {
  const change = (at: number, part: Partial<DraftButton>) =>
    set({ actions: draft.actions.map((one, i) => (i === at ? { ...one, ...part } : one)) })
  return (
    <fieldset className="sm:col-span-2">
      <legend className="font-semibold">Buttons</legend>
      {draft.actions.map((one, i) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: a button has no other identity while it is being written
        <div key={i} className="mt-1 flex flex-wrap gap-2">
          <input
            aria-label={`Button ${i + 1} says`}
            placeholder="Take a later one"
            className="min-w-0 flex-1"
            value={one.title}
            onChange={(e) => change(i, { title: e.target.value })}
          />
          <input
            aria-label={`Button ${i + 1} leads to`}
            placeholder="/sailings/101/rebook"
            className="min-w-0 flex-1 font-mono"
            value={one.navigate}
            onChange={(e) => change(i, { navigate: e.target.value })}
          />
          <IconButton
            icon={X}
            label={`Remove button ${i + 1}`}
            onClick={() => set({ actions: draft.actions.filter((_, at) => at !== i) })}
          />
        </div>
      ))}
      {faults.actions && <Fault says={faults.actions} />}
      <Warnings all={warnings.actions} />
      {draft.actions.length < 4 && (
        <Button
          rank="quiet"
          icon={Plus}
          className="mt-1 text-sm"
          onClick={() => set({ actions: [...draft.actions, { title: '', action: '', navigate: '' }] })}
        >
          Add a button
        </Button>
      )}
    </fieldset>
  )
}
