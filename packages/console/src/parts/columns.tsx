import { Popover } from 'radix-ui'
import { type ReactNode, useState } from 'react'
import { secondary } from './page.tsx'

export type Column<Row, Name extends string = string> = {
  readonly name: Name
  readonly title: string
  readonly cell: (row: Row) => ReactNode
  /** Shown until somebody chooses. */
  readonly preset: boolean
}

export type ChosenColumns<Row, Name extends string = string> = {
  readonly shown: readonly Column<Row, Name>[]
  readonly toggle: (name: string) => void
}

/** Which columns a table shows; the choice is this browser's, and is kept. */
export function useColumns<Row, Name extends string>(
  table: string,
  all: readonly Column<Row, Name>[],
): ChosenColumns<Row, Name> {
  const keptAs = `bell-columns-${table}`
  const [chosen, setChosen] = useState<Readonly<Record<string, boolean>>>(() =>
    JSON.parse(localStorage.getItem(keptAs) ?? '{}'),
  )
  const isShown = ({ name, preset }: Column<Row, Name>) => chosen[name] ?? preset
  return {
    shown: all.filter(isShown),
    toggle(name) {
      const column = all.find((one) => one.name === name)
      if (!column) return
      const next = { ...chosen, [name]: !isShown(column) }
      localStorage.setItem(keptAs, JSON.stringify(next))
      setChosen(next)
    },
  }
}

export function Columns<Row>({
  all,
  columns,
}: {
  readonly all: readonly Column<Row>[]
  readonly columns: ChosenColumns<Row>
}) {
  return (
    <Popover.Root>
      <Popover.Trigger className={secondary}>Columns</Popover.Trigger>
      <Popover.Portal>
        <Popover.Content align="start" sideOffset={6} className="rounded-md border border-line bg-surface px-4 py-3">
          {all.map(({ name, title }) => (
            <label key={name} className="flex items-center gap-2 py-0.5">
              <input
                type="checkbox"
                className="w-auto!"
                checked={columns.shown.some((one) => one.name === name)}
                onChange={() => columns.toggle(name)}
              />
              {title}
            </label>
          ))}
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  )
}
