import { X } from 'lucide-react'
import { AlertDialog, Dialog as Radix } from 'radix-ui'
import { type ReactNode, useState } from 'react'
import { actionLook, IconButton } from './button.tsx'

const veil = 'fixed inset-0 z-40 bg-[rgb(10_20_28/45%)]'
const front =
  'fixed inset-x-4 top-1/2 z-50 mx-auto max-h-[90dvh] max-w-xl -translate-y-1/2 overflow-y-auto rounded-float bg-raised p-6 shadow-front'

type DialogProps = {
  readonly title: string
  /** What it is for, in a sentence. */
  readonly about?: string
  readonly open: boolean
  readonly onOpenChange: (open: boolean) => void
  readonly children: ReactNode
}

/** A task of its own before the page, such as making a key: short, and left by Escape without anything having happened. */
export function Dialog({ title, about, open, onOpenChange, children }: DialogProps) {
  return (
    <Radix.Root open={open} onOpenChange={onOpenChange}>
      <Radix.Portal>
        <Radix.Overlay className={veil} />
        <Radix.Content className={front} {...(about ? {} : { 'aria-describedby': undefined })}>
          <div className="flex items-start justify-between gap-4">
            <Radix.Title>{title}</Radix.Title>
            <Radix.Close asChild>
              <IconButton icon={X} label="Close" />
            </Radix.Close>
          </div>
          {about && <Radix.Description className="mb-4 text-soft">{about}</Radix.Description>}
          {children}
        </Radix.Content>
      </Radix.Portal>
    </Radix.Root>
  )
}

type SheetProps = Omit<DialogProps, 'about'>

/** What is behind a bar at the bottom of a phone: it rises from there. */
export function Sheet({ title, open, onOpenChange, children }: SheetProps) {
  return (
    <Radix.Root open={open} onOpenChange={onOpenChange}>
      <Radix.Portal>
        <Radix.Overlay className={veil} />
        <Radix.Content
          aria-describedby={undefined}
          className="fixed inset-x-0 bottom-0 z-50 max-h-[85dvh] animate-rise overflow-y-auto rounded-t-float bg-raised px-5 pt-4 pb-8 shadow-front"
        >
          <div className="mb-2 flex items-center justify-between gap-4">
            <Radix.Title>{title}</Radix.Title>
            <Radix.Close asChild>
              <IconButton icon={X} label="Close" />
            </Radix.Close>
          </div>
          {children}
        </Radix.Content>
      </Radix.Portal>
    </Radix.Root>
  )
}

type ConfirmProps = {
  /** What is about to happen, as a question. */
  readonly title: string
  /** What it does, to how many, and that it stays so. */
  readonly children: ReactNode
  /** The act by its name, never “OK”. */
  readonly yes: string
  readonly onYes: () => void
  /** What opens it. */
  readonly trigger: ReactNode
}

/** Asks once before what cannot be undone. */
export function Confirm({ title, children, yes, onYes, trigger }: ConfirmProps) {
  const [open, setOpen] = useState(false)
  return (
    <AlertDialog.Root open={open} onOpenChange={setOpen}>
      <AlertDialog.Trigger asChild>{trigger}</AlertDialog.Trigger>
      <AlertDialog.Portal>
        <AlertDialog.Overlay className={veil} />
        <AlertDialog.Content className={front}>
          <AlertDialog.Title>{title}</AlertDialog.Title>
          <AlertDialog.Description asChild>
            <div className="mt-2 text-soft">{children}</div>
          </AlertDialog.Description>
          <div className="mt-6 flex flex-wrap justify-end gap-3">
            <AlertDialog.Cancel className={actionLook('secondary')}>Leave it</AlertDialog.Cancel>
            <AlertDialog.Action className={actionLook('danger')} onClick={onYes}>
              {yes}
            </AlertDialog.Action>
          </div>
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  )
}
