import { useQuery } from '@tanstack/react-query'
import { sayValue } from '@zbell/contract/words'
import { usePlace } from '../app/place.ts'
import { Fault } from '../parts/field.tsx'
import type { NamedPlace } from './names-in.ts'

export type Values = { readonly [name: string]: string | number | boolean }

type Props = {
  /** The names that the texts want, and those that were given though no text wants them. */
  readonly names: readonly NamedPlace[]
  readonly values: Values
  readonly fallbacks: Values
  readonly onChange: (changes: { readonly values?: Values; readonly fallbacks?: Values }) => void
  /** Whose own values are shown. */
  readonly reader: string
  readonly faults: { readonly values?: string | undefined; readonly fallbacks?: string | undefined }
}

/**
 * What fills the places in the texts: a value for everybody, or each reader's own attribute, and what stands there for whoever
 * has none.
 */
export function ValuesEditor({ names, values, fallbacks, onChange, reader, faults }: Props) {
  const place = usePlace()
  const person = useQuery({
    queryKey: [place.app.slug, place.environment, 'people', 'one', reader],
    queryFn: () => place.call('readUser', { params: { user: reader } }),
    enabled: reader !== '',
    retry: false,
  })
  if (names.length === 0)
    return <p className="text-sm text-soft">Write {'{delay}'} in a text, and what stands for it is filled in here.</p>
  return (
    <div className="grid gap-3">
      <div className="hidden gap-3 text-sm text-soft sm:grid sm:grid-cols-[9rem_1fr_1fr]">
        <span>In the texts</span>
        <span>For everybody</span>
        <span>For whoever has none</span>
      </div>
      {names.map((one) => {
        const own = person.data?.attributes[one.name]
        const change = (from: Values, value: string | number | boolean | undefined) => {
          const { [one.name]: _, ...rest } = from
          return value === undefined ? rest : { ...rest, [one.name]: value }
        }
        return (
          <div key={one.name} className="grid gap-x-3 gap-y-1 sm:grid-cols-[9rem_1fr_1fr] sm:items-start">
            <p className="truncate py-1.5 font-mono text-sm" title={one.type}>
              {one.name}
            </p>
            <ValueInput
              label={`Value of ${one.name}`}
              type={one.type}
              value={values[one.name]}
              placeholder={own === undefined ? 'each reader’s own' : `${sayValue(own)}, for ${reader}`}
              onChange={(value) => onChange({ values: change(values, value) })}
            />
            <ValueInput
              label={`Fallback of ${one.name}`}
              type={one.type}
              value={fallbacks[one.name]}
              placeholder="none: they are left out"
              onChange={(value) => onChange({ fallbacks: change(fallbacks, value) })}
            />
          </div>
        )
      })}
      {faults.values && <Fault says={faults.values} />}
      {faults.fallbacks && <Fault says={faults.fallbacks} />}
    </div>
  )
}

type ValueInputProps = {
  readonly label: string
  readonly type: NamedPlace['type']
  readonly value: string | number | boolean | undefined
  readonly placeholder: string
  readonly onChange: (value: string | number | undefined) => void
}

/** A field of the value's type; what is emptied is no value any more. */
function ValueInput({ label, type, value, placeholder, onChange }: ValueInputProps) {
  const text = value === undefined ? '' : String(value)
  if (type === 'number')
    return (
      <input
        aria-label={label}
        inputMode="decimal"
        value={text}
        placeholder={placeholder}
        onChange={(event) => {
          const typed = event.target.value.trim()
          const number = Number(typed)
          // What is no number yet is kept as it is typed, so that “-” can become “-2”.
          onChange(typed === '' ? undefined : /^-?\d+(\.\d+)?$/.test(typed) && Number.isFinite(number) ? number : typed)
        }}
      />
    )
  if (type === 'instant')
    return (
      <input
        aria-label={label}
        type={text === '' || /T\d{2}:\d{2}/.test(text) ? 'datetime-local' : 'text'}
        value={localOf(text)}
        onChange={(event) =>
          onChange(event.target.value === '' ? undefined : new Date(event.target.value).toISOString())
        }
      />
    )
  return (
    <input
      aria-label={label}
      dir="auto"
      value={text}
      placeholder={placeholder}
      onChange={(event) => onChange(event.target.value === '' ? undefined : event.target.value)}
    />
  )
}

/** An instant in the zone of this console, as such a field wants it. */
function localOf(iso: string): string {
  const date = new Date(iso)
  if (iso === '' || Number.isNaN(date.getTime())) return iso
  const local = new Date(date.getTime() - date.getTimezoneOffset() * 60_000)
  return local.toISOString().slice(0, 16)
}
