import { X } from 'lucide-react'
import { type KeyboardEvent, useId, useState } from 'react'
import { IconButton } from '../parts/button.tsx'
import { Select } from '../parts/select.tsx'

type TextProps = {
  readonly label: string
  readonly value: string
  readonly choices: readonly string[]
  readonly onChange: (value: string) => void
  readonly placeholder?: string
}

/** A text, with those offered that are usual. */
export function TextValue({ label, value, choices, onChange, placeholder }: TextProps) {
  const id = useId()
  return (
    <>
      <input
        aria-label={label}
        className="min-w-28 flex-1 basis-28"
        dir="auto"
        value={value}
        list={choices.length > 0 ? id : undefined}
        placeholder={placeholder}
        onChange={(event) => onChange(event.target.value)}
      />
      {choices.length > 0 && (
        <datalist id={id}>
          {choices.map((one) => (
            <option key={one} value={one} />
          ))}
        </datalist>
      )}
    </>
  )
}

type NumberProps = {
  readonly label: string
  readonly value: number
  readonly onChange: (value: number) => void
  readonly className?: string
}

/** A number while it is typed: what is none yet stays as it was typed, and says nothing. */
export function NumberValue({ label, value, onChange, className = 'w-24' }: NumberProps) {
  const [typed, setTyped] = useState<string>()
  const given = Number.isFinite(value) ? String(value) : ''
  return (
    <input
      aria-label={label}
      className={className}
      inputMode="decimal"
      value={typed ?? given}
      onChange={(event) => {
        setTyped(event.target.value)
        onChange(event.target.value.trim() === '' ? Number.NaN : Number(event.target.value))
      }}
      onBlur={() => setTyped(undefined)}
    />
  )
}

type ListProps = {
  readonly label: string
  readonly values: readonly (string | number)[]
  readonly numeric: boolean
  readonly choices: readonly string[]
  readonly onChange: (values: readonly (string | number)[]) => void
}

/** Several values, each added by Enter. */
export function ListValue({ label, values, numeric, choices, onChange }: ListProps) {
  const [typed, setTyped] = useState('')
  const add = () => {
    const text = typed.trim()
    const one = numeric ? Number(text) : text
    if (text === '' || (typeof one === 'number' && !Number.isFinite(one))) return
    if (!values.includes(one)) onChange([...values, one])
    setTyped('')
  }
  const onKey = (event: KeyboardEvent) => {
    if (event.key !== 'Enter' && event.key !== ',') return
    event.preventDefault()
    add()
  }
  return (
    <span className="flex min-w-40 flex-1 flex-wrap items-center gap-1.5">
      {values.map((one) => (
        <span key={String(one)} className="inline-flex items-center rounded-control bg-sunken ps-2 text-sm">
          <bdi>{String(one)}</bdi>
          <IconButton
            icon={X}
            label={`Remove ${one}`}
            onClick={() => onChange(values.filter((other) => other !== one))}
          />
        </span>
      ))}
      {/* biome-ignore lint/a11y/noStaticElementInteractions: the input within is what has the keys */}
      <span className="flex flex-1" onKeyDown={onKey} onBlur={add}>
        <TextValue
          label={label}
          value={typed}
          choices={choices.filter((one) => !values.includes(one))}
          onChange={setTyped}
          placeholder={values.length === 0 ? 'one, Enter, another' : ''}
        />
      </span>
    </span>
  )
}

const units = { days: 24, hours: 1, minutes: 1 / 60 } as const
type Unit = keyof typeof units
const lengthOf = /^(?:(\d+)h)?(?:(\d+)m)?(?:(\d+)s)?$/

/** A duration as people say it: whole days where it is some, else hours, else minutes. */
function partsIn(duration: string): { readonly count: number; readonly unit: Unit } | undefined {
  const [whole, hours = '0', minutes = '0', seconds = '0'] = lengthOf.exec(duration) ?? []
  if (!whole || Number(seconds) % 60 !== 0) return undefined
  const all = Number(hours) * 60 + Number(minutes) + Number(seconds) / 60
  if (all % 1_440 === 0 && all > 0) return { count: all / 1_440, unit: 'days' }
  return all % 60 === 0 ? { count: all / 60, unit: 'hours' } : { count: all, unit: 'minutes' }
}

const durationOf = (count: number, unit: Unit): string => (unit === 'minutes' ? `${count}m` : `${count * units[unit]}h`)

type DurationProps = { readonly label: string; readonly value: string; readonly onChange: (value: string) => void }

/** So long, as a number and a unit; a duration that is neither stays as CEL writes it. */
export function DurationValue({ label, value, onChange }: DurationProps) {
  const [unit, setUnit] = useState<Unit>(partsIn(value)?.unit ?? 'days')
  const read = partsIn(value)
  if (read === undefined && value !== '')
    return (
      <input
        aria-label={label}
        className="w-28 font-mono"
        value={value}
        onChange={(event) => onChange(event.target.value)}
      />
    )
  // 48 hours stay 48 hours for whoever chose hours.
  const count = read === undefined ? Number.NaN : (read.count * units[read.unit]) / units[unit]
  const isWhole = Number.isInteger(count)
  const shown = read === undefined || isWhole ? { count, unit } : read
  return (
    <>
      <NumberValue
        label={label}
        className="w-20"
        value={shown.count}
        onChange={(now) => onChange(Number.isInteger(now) && now >= 0 ? durationOf(now, shown.unit) : '')}
      />
      <Select
        label={`Unit of ${label.toLowerCase()}`}
        className="w-28"
        value={shown.unit}
        options={(Object.keys(units) as Unit[]).map((one) => ({ value: one, label: one }))}
        onChange={(now) => {
          setUnit(now)
          if (Number.isFinite(shown.count)) onChange(durationOf(shown.count, now))
        }}
      />
    </>
  )
}
