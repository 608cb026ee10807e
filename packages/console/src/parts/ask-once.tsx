import type { ReactNode } from 'react'
import { secondary } from './page.tsx'

/** What cannot be undone says what will happen, and asks once. */
export function AskOnce({
  children,
  yes,
  onYes,
  onLeave,
}: {
  readonly children: ReactNode
  readonly yes: string
  readonly onYes: () => void
  readonly onLeave: () => void
}) {
  return (
    <div role="alertdialog" aria-label="Are you sure?" className="mt-4 max-w-2xl border-s-4 border-brass ps-4">
      <p>{children}</p>
      <div className="mt-2 flex gap-3">
        <button type="button" className={secondary} onClick={onYes}>
          {yes}
        </button>
        <button type="button" className="cursor-pointer underline underline-offset-4" onClick={onLeave}>
          Leave it
        </button>
      </div>
    </div>
  )
}
