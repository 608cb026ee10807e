import { Field } from '../parts/field.tsx'
import { type Draft, type PlatformName, platformNames } from './draft.ts'

type Props = {
  readonly draft: Draft
  readonly set: (part: Partial<Draft>) => void
  readonly faults: { readonly [field: string]: string }
}

/** Who is meant: any, all and none of references, and platforms. */
export function Who({ draft, set, faults }: Props) {
  const more = draft.all !== '' || draft.none !== '' || draft.platforms.length > 0
  const toggle = (platform: PlatformName, on: boolean) =>
    set({ platforms: platformNames.filter((one) => (one === platform ? on : draft.platforms.includes(one))) })
  return (
    <div className="grid gap-3">
      <Field
        label="To"
        hint="user:NAME, topic:NAME, device:ID, token:TOKEN or everyone; several with a space between, or a pasted list"
        fault={faults.any}
      >
        {(props) => (
          <textarea
            {...props}
            rows={1}
            className="field-sizing-content max-h-40 font-mono"
            value={draft.any}
            onChange={(e) => set({ any: e.target.value })}
            placeholder="topic:route-4"
          />
        )}
      </Field>
      <details open={more || undefined}>
        <summary className="cursor-pointer text-sm">Only some of them</summary>
        <div className="mt-2 grid gap-3 sm:grid-cols-2">
          <Field label="And in all of" hint="Only who each of these names" fault={faults.all}>
            {(props) => (
              <input
                {...props}
                className="font-mono"
                value={draft.all}
                onChange={(e) => set({ all: e.target.value })}
              />
            )}
          </Field>
          <Field label="But in none of" hint="Not who one of these names" fault={faults.none}>
            {(props) => (
              <input
                {...props}
                className="font-mono"
                value={draft.none}
                onChange={(e) => set({ none: e.target.value })}
              />
            )}
          </Field>
        </div>
        <fieldset className="mt-2 flex flex-wrap gap-x-5">
          <legend className="sr-only">Platforms</legend>
          {platformNames.map((platform) => (
            <label key={platform} className="flex items-center gap-2">
              <input
                type="checkbox"
                checked={draft.platforms.includes(platform)}
                onChange={(e) => toggle(platform, e.target.checked)}
              />
              {platform}
            </label>
          ))}
          <span className="text-sm text-soft">none ticked: all platforms</span>
        </fieldset>
      </details>
    </div>
  )
}
