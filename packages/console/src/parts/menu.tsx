import type { LucideIcon } from 'lucide-react'
import { DropdownMenu } from 'radix-ui'
import { type ReactNode, useRef, useState } from 'react'
import { useStayInView } from './stay-in-view.ts'

export type MenuEntry = {
  readonly label: string
  readonly icon?: LucideIcon
  readonly danger?: boolean
  readonly onSelect: () => void
}

type MenuProps = {
  /** The button that opens it. */
  readonly trigger: ReactNode
  readonly entries: readonly MenuEntry[]
}

/** What else can be done with a thing, where a button each would be too many. */
export function Menu({ trigger, entries }: MenuProps) {
  const [open, setOpen] = useState(false)
  const button = useRef<HTMLButtonElement>(null)
  useStayInView(open, button)
  return (
    <DropdownMenu.Root open={open} onOpenChange={setOpen}>
      <DropdownMenu.Trigger asChild ref={button}>
        {trigger}
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align="end"
          sideOffset={4}
          collisionPadding={8}
          className="z-30 min-w-44 animate-come rounded-float border border-line bg-raised p-1 shadow-float"
        >
          {entries.map(({ label, icon: Icon, danger, onSelect }) => (
            <DropdownMenu.Item
              key={label}
              onSelect={onSelect}
              className={`flex cursor-pointer items-center gap-2.5 rounded-control px-3 py-1.5 outline-none select-none data-[highlighted]:bg-sunken ${danger ? 'text-red' : ''}`}
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
