import { useQuery } from '@tanstack/react-query'
import type { When } from '@zbell/contract'
import { firstZone, whenOfTyped } from '@zbell/contract/words'
import { keys } from '../app/live.ts'
import { usePlace } from '../app/place.ts'
import { useRested } from '../app/use-rested.ts'
import { Field } from '../parts/field.tsx'
import { ownZone } from '../parts/moment.tsx'

/** What is typed about when something rings; empty where it rings at once. */
export type TypedTiming = {
  readonly at: string
  readonly zone: string
  readonly repeat: string
}

export const atOnce: TypedTiming = { at: '', zone: ownZone, repeat: '' }

/** @returns undefined where it rings at once; a sentence that says what cannot be read */
export const timingIn = ({ at, zone, repeat }: TypedTiming): When | string | undefined =>
  whenOfTyped(
    { at: at.trim() || undefined, repeat: repeat.trim() || undefined, ...(at || repeat ? { zone: zone.trim() } : {}) },
    Date.now(),
    ownZone,
  ) as When | string | undefined

type Props = { readonly timing: TypedTiming; readonly onChange: (timing: TypedTiming) => void }

/** When it rings, as somebody types it, and what was understood. */
export function WhenField({ timing, onChange }: Props) {
  const read = timingIn(timing)
  const fault = typeof read === 'string' ? read : undefined
  const set = (part: Partial<TypedTiming>) => onChange({ ...timing, ...part })
  const hasTime = timing.at !== '' || timing.repeat !== ''
  return (
    <div className="grid gap-3">
      <div className="grid gap-x-4 gap-y-2 sm:grid-cols-2">
        <Field label="At" hint="Empty: at once. 18:00, tomorrow 18:00, 2026-11-27 18:00" fault={fault}>
          {(control) => (
            <input
              {...control}
              value={timing.at}
              placeholder="tomorrow 18:00"
              onChange={(event) => set({ at: event.target.value })}
            />
          )}
        </Field>
        <Field label="Zone" hint="By whose clock; reader: by each one’s own">
          {(control) => (
            <input {...control} value={timing.zone} onChange={(event) => set({ zone: event.target.value })} />
          )}
        </Field>
        <Field label="Again and again" hint="A rule of RFC 5545; it needs a name">
          {(control) => (
            <input
              {...control}
              className="font-mono"
              value={timing.repeat}
              placeholder="FREQ=WEEKLY;BYDAY=MO,TU"
              onChange={(event) => set({ repeat: event.target.value })}
            />
          )}
        </Field>
      </div>
      {hasTime && fault === undefined && <Understood when={read as When} />}
    </div>
  )
}

/** So many times are shown of what repeats. */
const shown = 3

/** The first times, in the zone in which they are meant, before anything is stored. */
function Understood({ when }: { readonly when: When }) {
  const place = usePlace()
  const rested = useRested(JSON.stringify(when))
  const { data, error } = useQuery({
    queryKey: [...keys.schedules(place), 'preview', rested],
    queryFn: () => place.call('previewSchedule', { body: { when: JSON.parse(rested) as When, count: shown } }),
    retry: false,
  })
  const isReaders = when.zone === 'reader'
  const zone = isReaders ? firstZone : (when.zone ?? ownZone)
  return (
    <p className="text-sm text-soft" aria-live="polite">
      {error
        ? 'It cannot be read: look at the rule and the zone.'
        : data === undefined
          ? ''
          : data.times.length === 0
            ? 'None of its times lies ahead.'
            : `Rings ${data.times.map((time) => exactIn(time, zone)).join(', then ')}${data.times.length === shown ? ' …' : ''} (${isReaders ? 'each reader’s clock' : zone}).`}
    </p>
  )
}

/** A time by the clock of a zone, with its day. */
export function exactIn(iso: string, zone: string): string {
  return new Intl.DateTimeFormat('en-GB', {
    timeZone: zone,
    weekday: 'short',
    day: 'numeric',
    month: 'short',
    year: 'numeric',
    hour: '2-digit',
    minute: '2-digit',
  }).format(new Date(iso))
}
