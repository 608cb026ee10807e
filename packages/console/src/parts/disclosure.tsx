import { ChevronRight } from 'lucide-react'
import { Collapsible, Progress as RadixProgress, ScrollArea as RadixScroll } from 'radix-ui'
import type { ReactNode } from 'react'
import { nonce } from './nonce.ts'

type MoreProps = {
  readonly title: string
  readonly open: boolean
  readonly onOpenChange: (open: boolean) => void
  readonly children: ReactNode
}

/** What most people do not need most of the time, behind one line. */
export function More({ title, open, onOpenChange, children }: MoreProps) {
  return (
    <Collapsible.Root open={open} onOpenChange={onOpenChange}>
      <Collapsible.Trigger className="inline-flex cursor-pointer items-center gap-1 rounded-control py-1 text-sm [&[data-state=open]>svg]:rotate-90">
        <ChevronRight size={17} aria-hidden="true" className="transition-transform duration-(--duration-answer)" />
        {title}
      </Collapsible.Trigger>
      <Collapsible.Content className="mt-2">{children}</Collapsible.Content>
    </Collapsible.Root>
  )
}

/** A part of the page that scrolls by itself, such as the tray of a drawn phone. @param className its height */
export function Scrolls({ className, label, children }: { className: string; label: string; children: ReactNode }) {
  return (
    <RadixScroll.Root type="auto" className={`overflow-hidden ${className}`}>
      <RadixScroll.Viewport nonce={nonce} tabIndex={0} role="region" aria-label={label} className="size-full">
        {children}
      </RadixScroll.Viewport>
      <RadixScroll.Scrollbar orientation="vertical" className="flex w-2 touch-none p-px select-none">
        <RadixScroll.Thumb className="flex-1 rounded-pill bg-edge" />
      </RadixScroll.Scrollbar>
    </RadixScroll.Root>
  )
}

type ProgressProps = {
  readonly label: string
  /** Of 1; undefined while nobody knows how far it is. */
  readonly share: number | undefined
  readonly tone?: 'sea' | 'red'
}

/** How far something is that takes its time. The words stand beside it. */
export function Progress({ label, share, tone = 'sea' }: ProgressProps) {
  const percent = share === undefined ? null : Math.round(Math.min(1, Math.max(0, share)) * 100)
  return (
    <RadixProgress.Root
      aria-label={label}
      value={percent}
      className="h-1.5 w-full overflow-hidden rounded-pill bg-sunken forced-colors:border"
    >
      <RadixProgress.Indicator
        className={`h-full rounded-pill ${tone === 'red' ? 'bg-red' : 'bg-sea'} ${percent === null ? 'animate-wait' : 'transition-[width] duration-(--duration-come)'}`}
        style={{ width: `${percent ?? 40}%` }}
      />
    </RadixProgress.Root>
  )
}
