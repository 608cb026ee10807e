import type { RuleWords } from '@zbell/contract'
import type { FactHow, RowValue, RuleRow } from '@zbell/core/rule-rows'
import { type Option, Select } from '../parts/select.tsx'
import { choicesFor, type FactType, typeOfFact } from './row-subjects.ts'
import { DurationValue, ListValue, NumberValue, TextValue } from './row-values.tsx'

type Props<Is extends RuleRow['is']> = {
  readonly row: RuleRow & { readonly is: Is }
  readonly words: RuleWords
  readonly onChange: (row: RuleRow) => void
}

/** A way to compare, as it is chosen: what has no sign for its opposite is written with “not”. */
type Way = FactHow | `not ${FactHow}`

const known: readonly Option<Way>[] = [
  { value: 'known', label: 'is known' },
  { value: 'not known', label: 'is not known' },
]
const order: readonly Option<Way>[] = [
  { value: '==', label: 'is' },
  { value: '!=', label: 'is not' },
  { value: '<', label: 'is less than' },
  { value: '<=', label: 'is at most' },
  { value: '>=', label: 'is at least' },
  { value: '>', label: 'is more than' },
]
const among: readonly Option<Way>[] = [
  { value: 'in', label: 'is one of' },
  { value: 'not in', label: 'is none of' },
]
const ways: Readonly<Record<FactType, readonly Option<Way>[]>> = {
  text: [
    { value: '==', label: 'is' },
    { value: '!=', label: 'is not' },
    ...among,
    { value: 'startsWith', label: 'starts with' },
    { value: 'endsWith', label: 'ends with' },
    { value: 'contains', label: 'contains' },
    { value: 'not contains', label: 'does not contain' },
    ...known,
  ],
  number: [...order, ...among, ...known],
  boolean: [{ value: '==', label: 'is' }, ...known],
  instant: [
    { value: '<', label: 'is before' },
    { value: '>', label: 'is after' },
    { value: '<=', label: 'is not after' },
    { value: '>=', label: 'is not before' },
    ...known,
  ],
  version: [
    { value: '<', label: 'is below' },
    { value: '>=', label: 'is at least' },
    { value: '==', label: 'is' },
    { value: '!=', label: 'is not' },
    { value: '>', label: 'is above' },
    { value: '<=', label: 'is at most' },
    ...known,
  ],
  place: known,
}

/** Those of its type, and the one that the rule has where that is another. */
function waysFor(type: FactType, now: Way, of: string): readonly Option<Way>[] {
  const all = of === 'first' || of === 'last' ? ways[type].filter(({ value }) => !value.endsWith('known')) : ways[type]
  return all.some(({ value }) => value === now) ? all : [...all, { value: now, label: now }]
}

/** How and with what a fact is compared. */
export function FactControls({ row, words, onChange }: Props<'fact'>) {
  const type = typeOfFact(row, words)
  const way: Way = `${row.not ? 'not ' : ''}${row.how}`
  const choose = (now: Way) => {
    const not = now.startsWith('not ')
    const how = (not ? now.slice(4) : now) as FactHow
    onChange({ ...row, how, not, value: how === 'known' ? undefined : fitting(row.value, how, type) })
  }
  return (
    <>
      <Select
        label="How it is compared"
        className="w-36"
        value={way}
        options={waysFor(type, way, row.of)}
        onChange={choose}
      />
      {row.value && (
        <ValueControls
          value={row.value}
          choices={choicesFor(row, words)}
          numeric={type === 'number'}
          onChange={(value) => onChange({ ...row, value })}
        />
      )}
    </>
  )
}

/** The value that was there, as the new way wants it. */
function fitting(value: RowValue | undefined, how: FactHow, type: FactType): RowValue {
  if (how === 'in') {
    if (value?.is === 'list') return value
    if (value?.is === 'text') return { is: 'list', of: value.text === '' ? [] : [value.text] }
    return { is: 'list', of: value?.is === 'number' ? [value.number] : [] }
  }
  if (value && value.is !== 'list') return value
  const [first] = value?.of ?? []
  if (type === 'number') return { is: 'number', number: typeof first === 'number' ? first : 0 }
  if (type === 'boolean') return { is: 'boolean', yes: true }
  if (type === 'instant') return { is: 'ago', duration: '720h' }
  return { is: type === 'version' ? 'version' : 'text', text: first === undefined ? '' : String(first) }
}

type ValueProps = {
  readonly value: RowValue
  readonly choices: readonly string[]
  readonly numeric: boolean
  readonly onChange: (value: RowValue) => void
}

function ValueControls({ value, choices, numeric, onChange }: ValueProps) {
  switch (value.is) {
    case 'text':
    case 'version':
      return (
        <TextValue
          label="Value"
          value={value.text}
          choices={choices}
          onChange={(text) => onChange({ is: value.is, text })}
        />
      )
    case 'number':
      return (
        <NumberValue label="Value" value={value.number} onChange={(number) => onChange({ is: 'number', number })} />
      )
    case 'boolean':
      return (
        <Select
          label="Value"
          className="w-24"
          value={value.yes ? 'yes' : 'no'}
          options={[
            { value: 'yes', label: 'yes' },
            { value: 'no', label: 'no' },
          ]}
          onChange={(now) => onChange({ is: 'boolean', yes: now === 'yes' })}
        />
      )
    case 'list':
      return (
        <ListValue
          label="Values"
          values={value.of}
          numeric={numeric}
          choices={choices}
          onChange={(of) => onChange({ is: 'list', of })}
        />
      )
    case 'instant':
      return <MomentControls value={{ is: 'instant', text: value.text }} onChange={onChange} />
    case 'ago':
    case 'ahead':
      return <MomentControls value={value} onChange={onChange} />
    default:
      return value satisfies never
  }
}

const sides: readonly Option<'ago' | 'ahead' | 'instant'>[] = [
  { value: 'ago', label: 'ago' },
  { value: 'ahead', label: 'from now' },
  { value: 'instant', label: 'at a moment' },
]

type MomentProps = {
  readonly value: Extract<RowValue, { readonly duration: string }> | { readonly is: 'instant'; readonly text: string }
  readonly onChange: (value: RowValue) => void
}

function MomentControls({ value, onChange }: MomentProps) {
  return (
    <>
      {value.is === 'instant' ? (
        <input
          aria-label="Moment"
          className="w-60 font-mono text-sm"
          value={value.text}
          onChange={(event) => onChange({ is: 'instant', text: event.target.value })}
        />
      ) : (
        <DurationValue
          label="How long"
          value={value.duration}
          onChange={(duration) => onChange({ is: value.is, duration } as MomentProps['value'])}
        />
      )}
      <Select
        label="Counted from"
        className="w-36"
        value={value.is}
        options={sides}
        onChange={(now) =>
          onChange(
            now === 'instant'
              ? {
                  is: 'instant',
                  text: value.is === 'instant' ? value.text : `${new Date().toISOString().slice(0, 19)}Z`,
                }
              : { is: now, duration: value.is === 'instant' ? '720h' : value.duration },
          )
        }
      />
    </>
  )
}

const counted: readonly Option<'>=' | '<=' | '==' | '>' | '<' | '!='>[] = [
  { value: '>=', label: 'at least' },
  { value: '<=', label: 'at most' },
  { value: '==', label: 'exactly' },
  { value: '>', label: 'more than' },
  { value: '<', label: 'fewer than' },
  { value: '!=', label: 'not exactly' },
]

/** How often something happened, and within how long. */
export function TimesControls({ row, onChange }: Omit<Props<'times'>, 'words'>) {
  return (
    <>
      <Select
        label="How often"
        className="w-36"
        value={row.how}
        options={counted}
        onChange={(how) => onChange({ ...row, how })}
      />
      <NumberValue label="Times" className="w-20" value={row.times} onChange={(times) => onChange({ ...row, times })} />
      <span>times in the last</span>
      <DurationValue label="Within" value={row.within} onChange={(within) => onChange({ ...row, within })} />
    </>
  )
}

const namedWays = {
  follows: ['they follow', 'they do not follow'],
  segment: ['they belong to', 'they do not belong to'],
  reached: ['they were sent', 'they were not sent'],
} as const

/** A topic, a segment, or a notification by its name. */
export function NamedControls({ row, words, onChange }: Props<'named'>) {
  const [yes, no] = namedWays[row.what]
  const choices = { follows: words.topics, segment: words.segments, reached: [] }[row.what]
  return (
    <>
      <Select
        label="Whether"
        className="w-44"
        value={row.not ? 'no' : 'yes'}
        options={[
          { value: 'yes', label: yes },
          { value: 'no', label: no },
        ]}
        onChange={(now) => onChange({ ...row, not: now === 'no' })}
      />
      <TextValue
        label="Name"
        value={row.name}
        choices={choices}
        placeholder={choices[0] ?? ''}
        onChange={(name) => onChange({ ...row, name })}
      />
    </>
  )
}

/** How far a place may lie from a point. */
export function NearControls({ row, onChange }: Omit<Props<'near'>, 'words'>) {
  return (
    <>
      <Select
        label="Whether"
        className="w-44"
        value={row.not ? 'no' : 'yes'}
        options={[
          { value: 'yes', label: 'lies within' },
          { value: 'no', label: 'lies farther than' },
        ]}
        onChange={(now) => onChange({ ...row, not: now === 'no' })}
      />
      <NumberValue label="Metres" value={row.metres} onChange={(metres) => onChange({ ...row, metres })} />
      <span>metres of longitude</span>
      <NumberValue label="Longitude" value={row.longitude} onChange={(longitude) => onChange({ ...row, longitude })} />
      <span>latitude</span>
      <NumberValue label="Latitude" value={row.latitude} onChange={(latitude) => onChange({ ...row, latitude })} />
    </>
  )
}
