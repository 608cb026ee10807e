import { Field } from '../parts/field.tsx'
import { Segments } from '../parts/toggles.tsx'
import { type TypedTiming, WhenField } from '../upcoming/when-field.tsx'

export const ringers = ['the service', 'the devices'] as const
export type Ringer = (typeof ringers)[number]

/** When it rings, who rings it, and under which name. */
export type Hour = { readonly timing: TypedTiming; readonly ringer: Ringer; readonly name: string }

export function WhenSection({
  hour,
  onChange,
  fault,
}: {
  readonly hour: Hour
  readonly onChange: (part: Partial<Hour>) => void
  readonly fault: string | undefined
}) {
  const { timing, ringer, name } = hour
  const repeats = timing.repeat.trim() !== ''
  const hasTime = timing.at.trim() !== '' || repeats
  const byDevices = ringer === 'the devices'
  return (
    <section aria-labelledby="when" className="grid gap-3">
      <h2 id="when">When</h2>
      <WhenField timing={timing} onChange={(next) => onChange({ timing: next })} />
      {hasTime && (
        <div className="grid max-w-md gap-1">
          <Segments
            label="Who rings it"
            value={ringer}
            options={ringers}
            onChange={(next) => onChange({ ringer: next })}
          />
          <p className="text-sm text-soft">
            {byDevices
              ? 'Handed to the devices now, which ring it by themselves, without a network; title, text, place and tag go along. Write reader as the zone for each one’s own clock.'
              : 'The service finds its people and rings it at its time.'}
          </p>
        </div>
      )}
      {(repeats || (hasTime && byDevices)) && (
        <Field
          label={byDevices ? 'Name of the plan' : 'Name of the schedule'}
          hint="By which it is found and stopped"
          fault={fault}
        >
          {(control) => (
            <input
              {...control}
              className="font-mono"
              value={name}
              placeholder="evening"
              onChange={(event) => onChange({ name: event.target.value })}
            />
          )}
        </Field>
      )}
    </section>
  )
}
