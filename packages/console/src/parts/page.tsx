import { type ReactNode, useEffect, useRef } from 'react'
import { useLocation } from 'react-router'
import { sayFailure } from '../app/api.ts'

type PageProps = {
  readonly title: string
  readonly asks: string
  readonly action?: ReactNode
  readonly children: ReactNode
}

/** A page answers one question, which stands under its title. */
export function Page({ title, asks, action, children }: PageProps) {
  const { pathname } = useLocation()
  const heading = useRef<HTMLHeadingElement>(null)
  // biome-ignore lint/correctness/useExhaustiveDependencies: a new place is what moves the focus, not a new title
  useEffect(() => heading.current?.focus(), [pathname])
  useEffect(() => {
    document.title = `${title} · Zephyr Bell`
  }, [title])
  return (
    <div className="mx-auto max-w-6xl px-5 pt-8 pb-24 md:px-10">
      <div className="flex flex-wrap items-end justify-between gap-4">
        <div>
          <h1 ref={heading} tabIndex={-1} className="outline-none">
            {title}
          </h1>
          <p className="text-soft">{asks}</p>
        </div>
        {action}
      </div>
      <div className="mt-8">{children}</div>
    </div>
  )
}

export const primary =
  'inline-flex items-center justify-center rounded-md bg-brass px-4 py-2 font-semibold text-on-brass no-underline hover:brightness-110 disabled:opacity-60 cursor-pointer'
export const secondary =
  'inline-flex items-center justify-center rounded-md border border-line px-4 py-2 no-underline hover:bg-sunken disabled:opacity-60 cursor-pointer'

export function Failure({ error }: { readonly error: unknown }) {
  const { says, does } = sayFailure(error)
  return (
    <p role="alert" className="max-w-2xl text-red">
      <span aria-hidden="true">✕ </span>
      {says} <span className="text-soft">{does}</span>
    </p>
  )
}

export function Waiting() {
  return <p className="text-soft">Reading …</p>
}

/** An empty page teaches: what this is, one example, and the way on. */
export function Empty({
  what,
  example,
  children,
}: {
  readonly what: string
  readonly example: string
  readonly children?: ReactNode
}) {
  return (
    <div className="max-w-2xl">
      <p>{what}</p>
      <pre className="my-4 overflow-x-auto rounded-md bg-sunken px-4 py-3 font-mono text-sm">{example}</pre>
      {children}
    </div>
  )
}

export function Pager({
  next,
  onNext,
  onFirst,
}: {
  readonly next: string | null
  readonly onNext?: () => void
  readonly onFirst?: () => void
}) {
  if (!next && !onFirst) return null
  return (
    <div className="mt-6 flex gap-3">
      {onFirst && (
        <button type="button" className={secondary} onClick={onFirst}>
          First page
        </button>
      )}
      {next && (
        <button type="button" className={secondary} onClick={onNext}>
          Next page
        </button>
      )}
    </div>
  )
}

export const Saved = ({ when }: { readonly when: boolean }) =>
  when && (
    <p role="status" className="text-sea">
      <span aria-hidden="true">● </span>saved
    </p>
  )
