import type { LucideIcon } from 'lucide-react'
import { DropdownMenu, Popover as RadixPopover } from 'radix-ui'
import type { ReactNode } from 'react'

const floats = 'z-30 animate-come rounded-float border border-line bg-raised shadow-float'

export type MenuEntry = {
  readonly label: string
  readonly icon?: LucideIcon
  readonly danger?: boolean
  readonly disabled?: boolean
  readonly onSelect: () => void
}

type MenuProps = {
  /** The button that opens it. */
  readonly trigger: ReactNode
  readonly entries: readonly MenuEntry[]
}

/** What else can be done with a thing, where a button each would be too many. */
export function Menu({ trigger, entries }: MenuProps) {
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger asChild>{trigger}</DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content align="end" sideOffset={4} collisionPadding={8} className={`${floats} min-w-44 p-1`}>
          {entries.map(({ label, icon: Icon, danger, disabled, onSelect }) => (
            <DropdownMenu.Item
              key={label}
              disabled={disabled ?? false}
              onSelect={onSelect}
              className={`flex cursor-pointer items-center gap-2.5 rounded-control px-3 py-1.5 outline-none select-none data-[disabled]:opacity-55 data-[highlighted]:bg-sunken ${danger ? 'text-red' : ''}`}
            >
              {Icon && <Icon size={17} aria-hidden="true" />}
              {label}
            </DropdownMenu.Item>
          ))}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  )
}

type PopoverProps = {
  readonly trigger: ReactNode
  /** What it is, for who cannot see where it hangs. */
  readonly label: string
  readonly children: ReactNode
  readonly align?: 'start' | 'end'
}

/** A few controls that belong to a button, such as the columns of a table. */
export function Popover({ trigger, label, children, align = 'start' }: PopoverProps) {
  return (
    <RadixPopover.Root>
      <RadixPopover.Trigger asChild>{trigger}</RadixPopover.Trigger>
      <RadixPopover.Portal>
        <RadixPopover.Content
          aria-label={label}
          align={align}
          sideOffset={6}
          collisionPadding={8}
          className={`${floats} px-4 py-3`}
        >
          {children}
        </RadixPopover.Content>
      </RadixPopover.Portal>
    </RadixPopover.Root>
  )
}
