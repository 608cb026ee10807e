import { Field, Warnings } from '../parts/field.tsx'
import type { Button, Draft } from './draft.ts'

const lifetimes = [
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
      <Field label="Urgency" hint="High wakes a sleeping phone" fault={faults.urgency}>
        {(props) => (
          <select
            {...props}
            value={draft.urgency}
            onChange={(e) => set({ urgency: e.target.value as Draft['urgency'] })}
          >
            {['very-low', 'low', 'normal', 'high'].map((name) => (
              <option key={name}>{name}</option>
            ))}
          </select>
        )}
      </Field>
      <Field label="Good for" hint="After that it is not delivered any more" fault={faults.ttlSeconds}>
        {(props) => (
          <select {...props} value={draft.ttlSeconds} onChange={(e) => set({ ttlSeconds: Number(e.target.value) })}>
            {lifetimes.map(([seconds, words]) => (
              <option key={seconds} value={seconds}>
                {words}
              </option>
            ))}
          </select>
        )}
      </Field>
      <Field label="Goes out" hint="Slower is kinder to what a tap opens" fault={faults.spreadSeconds}>
        {(props) => (
          <select
            {...props}
            value={draft.spreadSeconds}
            onChange={(e) => set({ spreadSeconds: Number(e.target.value) })}
          >
            {spreads.map(([seconds, words]) => (
              <option key={seconds} value={seconds}>
                {words}
              </option>
            ))}
          </select>
        )}
      </Field>
      <Buttons draft={draft} set={set} faults={faults} warnings={warnings} />
      <Pairs
        name="values"
        label="Values"
        hint="What the texts name, a line each: delay = 15"
        {...{ draft, set, faults }}
      />
      <Pairs
        name="fallbacks"
        label="Fallbacks"
        hint="Where a person has no such value: pier = the pier"
        {...{ draft, set, faults }}
      />
    </div>
  )
}

function Pairs({
  name,
  label,
  hint,
  draft,
  set,
  faults,
}: Omit<Props, 'warnings'> & { readonly name: 'values' | 'fallbacks'; readonly label: string; readonly hint: string }) {
  return (
    <Field label={label} hint={hint} fault={faults[name]}>
      {(props) => (
        <textarea
          {...props}
          rows={2}
          className="field-sizing-content font-mono"
          value={draft[name]}
          onChange={(e) => set({ [name]: e.target.value })}
        />
      )}
    </Field>
  )
}

function Buttons({ draft, set, faults, warnings }: Props) {
  const change = (at: number, part: Partial<Button>) =>
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
          <button
            type="button"
            aria-label={`Remove button ${i + 1}`}
            className="cursor-pointer px-2"
            onClick={() => set({ actions: draft.actions.filter((_, at) => at !== i) })}
          >
            ✕
          </button>
        </div>
      ))}
      {faults.actions && <p className="text-sm text-red">✕ {faults.actions}</p>}
      <Warnings all={warnings.actions} />
      {draft.actions.length < 4 && (
        <button
          type="button"
          className="mt-1 cursor-pointer text-sm underline underline-offset-4"
          onClick={() => set({ actions: [...draft.actions, { title: '', action: '', navigate: '' }] })}
        >
          Add a button
        </button>
      )}
    </fieldset>
  )
}
