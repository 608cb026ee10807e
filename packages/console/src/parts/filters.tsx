import { ListFilter } from 'lucide-react'
import { type ReactNode, useId, useState } from 'react'
import { useSearchParams } from 'react-router'
import { Button } from './button.tsx'
import { type Option, Select } from './select.tsx'

/** Filters of a list, and the page that one is on; they stand in the address, so that a view can be shared. */
export type Filters<Name extends string> = {
  readonly [name in Name]: string
} & {
  readonly after: string | undefined
  /** The list begins anew. */
  set(name: Name, value: string): void
  goOn(after: string | undefined): void
}

export function useFilters<Name extends string>(...names: readonly Name[]): Filters<Name> {
  const [search, setSearch] = useSearchParams()
  const change = (name: string, value: string | undefined, more: 'stay' | 'first') =>
    setSearch(
      (before) => {
        const next = new URLSearchParams(before)
        if (value === undefined || value === '') next.delete(name)
        else next.set(name, value)
        if (more === 'first') next.delete('after')
        return next
      },
      { replace: more === 'first' },
    )
  const values = Object.fromEntries(names.map((name) => [name, search.get(name) ?? '']))
  return {
    ...values,
    after: search.get('after') ?? undefined,
    set: (name: Name, value: string) => change(name, value, 'first'),
    goOn: (after: string | undefined) => change('after', after, 'stay'),
  } as Filters<Name>
}

type TextFilterProps = {
  readonly label: string
  readonly value: string
  readonly example: string
  readonly onChange: (value: string) => void
}

/** Narrows a list by what is typed. */
export const TextFilter = ({ label, value, example, onChange }: TextFilterProps) => (
  <label className="grid text-sm text-soft max-md:w-full">
    {label}
    <input
      className="w-48 text-base text-ink max-md:w-full"
      value={value}
      placeholder={example}
      onChange={(event) => onChange(event.target.value)}
    />
  </label>
)

type ChoiceFilterProps<Value extends string> = {
  readonly label: string
  readonly value: Value
  readonly options: readonly Option<Value>[]
  readonly onChange: (value: Value) => void
}

/** Narrows a list to one kind. */
export function ChoiceFilter<Value extends string>({ label, value, options, onChange }: ChoiceFilterProps<Value>) {
  const id = useId()
  return (
    <div className="grid text-sm text-soft max-md:w-full">
      <label htmlFor={id}>{label}</label>
      <Select
        id={id}
        value={value}
        options={options}
        onChange={onChange}
        className="w-48 text-base text-ink max-md:w-full"
      />
    </div>
  )
}

/**
 * What narrows a list, above it. On a phone it lies behind a button, so that the list is what one sees first.
 * @param set how many of them hold now
 */
export function FilterBar({ set, children }: { readonly set: number; readonly children: ReactNode }) {
  const [open, setOpen] = useState(false)
  const id = useId()
  return (
    <search className="max-md:grow">
      <Button
        icon={ListFilter}
        aria-expanded={open}
        aria-controls={id}
        className="md:hidden"
        onClick={() => setOpen(!open)}
      >
        {set > 0 ? `Filters (${set})` : 'Filters'}
      </Button>
      <div id={id} className={`flex flex-wrap items-end gap-x-4 gap-y-3 ${open ? 'max-md:mt-3' : 'max-md:hidden'}`}>
        {children}
      </div>
    </search>
  )
}
