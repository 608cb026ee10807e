import { Command } from 'cmdk'
import { Check, ChevronsUpDown } from 'lucide-react'
import { Popover } from 'radix-ui'
import { type ReactNode, useState } from 'react'

export type ComboboxItem = {
  readonly value: string
  readonly label: string
  /** What it is, at the end of its line: a count, a kind. */
  readonly note?: string
}

type ComboboxProps = {
  readonly chosen: ComboboxItem | undefined
  readonly onChange: (one: ComboboxItem) => void
  readonly label: string
  /** What stands there while nothing is chosen. */
  readonly placeholder: string
  /** Those that fit what is typed; whoever asks elsewhere for them gives what came. */
  readonly found: readonly ComboboxItem[]
  readonly typed: string
  readonly onType: (typed: string) => void
  /** What is said when nothing fits. */
  readonly none: ReactNode
  readonly id?: string
  readonly 'aria-describedby'?: string
  readonly 'aria-invalid'?: boolean
}

/** One of many, found as one types. A few are chosen from a Select. */
export function Combobox(props: ComboboxProps) {
  const { chosen, onChange, label, placeholder, found, typed, onType, none, ...field } = props
  const [open, setOpen] = useState(false)
  return (
    <Popover.Root open={open} onOpenChange={setOpen}>
      <Popover.Trigger asChild>
        <button
          type="button"
          role="combobox"
          aria-expanded={open}
          aria-haspopup="listbox"
          aria-label={label}
          {...field}
          className="inline-flex min-h-(--control-height) w-full cursor-pointer items-center justify-between gap-2 rounded-control border border-edge bg-surface px-(--control-pad) py-1 text-start"
        >
          <span className={`min-w-0 grow truncate ${chosen ? '' : 'text-soft'}`}>{chosen?.label ?? placeholder}</span>
          {chosen?.note && <span className="shrink-0 text-sm text-soft">{chosen.note}</span>}
          <ChevronsUpDown size={17} aria-hidden="true" className="shrink-0 text-soft" />
        </button>
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          align="start"
          sideOffset={4}
          collisionPadding={8}
          className="z-30 w-(--radix-popover-trigger-width) min-w-64 animate-come overflow-hidden rounded-float border border-line bg-raised shadow-float"
        >
          <Command label={label} shouldFilter={false}>
            <div className="p-1.5">
              <Command.Input
                value={typed}
                onValueChange={onType}
                placeholder="Search"
                className="w-full rounded-control border border-edge bg-surface px-3 py-1.5"
              />
            </div>
            <Command.List className="max-h-72 overflow-y-auto p-1">
              <Command.Empty className="px-3 py-2 text-soft">{none}</Command.Empty>
              {found.map((one) => (
                <Command.Item
                  key={one.value}
                  value={one.value}
                  onSelect={() => {
                    onChange(one)
                    setOpen(false)
                  }}
                  className="flex cursor-pointer items-center gap-2 rounded-control px-2 py-1.5 data-[selected=true]:bg-sunken"
                >
                  <Check
                    size={16}
                    aria-hidden="true"
                    className={one.value === chosen?.value ? 'text-brass' : 'invisible'}
                  />
                  <span className="grow truncate">{one.label}</span>
                  {one.note && <span className="shrink-0 text-sm text-soft">{one.note}</span>}
                </Command.Item>
              ))}
            </Command.List>
          </Command>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  )
}
