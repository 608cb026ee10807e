import { Popover as RadixPopover } from 'radix-ui'
import type { ReactNode } from 'react'

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
          className="z-30 animate-come rounded-float border border-line bg-raised px-4 py-3 shadow-float"
        >
          {children}
        </RadixPopover.Content>
      </RadixPopover.Portal>
    </RadixPopover.Root>
  )
}
