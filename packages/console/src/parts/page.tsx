import { CircleCheck, CircleX, Lock } from 'lucide-react'
import { type ReactNode, useEffect, useRef } from 'react'
import { Link, useLocation } from 'react-router'
import { isNotAllowed, sayFailure } from '../app/failures.ts'
import { Button } from './button.tsx'

/** A page above this one, on the way back. */
export type Crumb = { readonly to: string; readonly name: string }

type PageProps = {
  readonly title: string
  /** The one question that the page answers. */
  readonly asks: string
  readonly crumbs?: readonly Crumb[]
  /** The one sensible next thing. */
  readonly action?: ReactNode
  readonly children: ReactNode
}

/** The frame of every page: where one is, its title, the question that it answers, the next action, and the answer. */
export function Page({ title, asks, crumbs = [], action, children }: PageProps) {
  const { pathname } = useLocation()
  const heading = useRef<HTMLHeadingElement>(null)
  // biome-ignore lint/correctness/useExhaustiveDependencies: a new place is what moves the focus, not a new title
  useEffect(() => heading.current?.focus(), [pathname])
  useEffect(() => {
    document.title = `${title} · Zephyr Bell`
  }, [title])
  return (
    <div className="mx-auto max-w-6xl px-4 pt-6 pb-24 sm:px-6 md:px-10 md:pt-8">
      {crumbs.length > 0 && (
        <nav aria-label="Way back" className="mb-2 text-sm text-soft">
          {crumbs.map(({ to, name }) => (
            <span key={to}>
              <Link to={to} className="underline decoration-1">
                {name}
              </Link>
              <span aria-hidden="true"> / </span>
            </span>
          ))}
        </nav>
      )}
      <div className="flex flex-wrap items-end justify-between gap-x-6 gap-y-3">
        <div className="min-w-0">
          <h1 ref={heading} tabIndex={-1} className="break-words outline-none">
            {title}
          </h1>
          <p className="text-soft">{asks}</p>
        </div>
        {action && <div className="flex flex-wrap gap-3">{action}</div>}
      </div>
      <div className="mt-8">{children}</div>
    </div>
  )
}

type FailureProps = { readonly error: unknown; readonly onAgain?: () => void }

/** What went wrong and what to do about it, with a way on. */
export function Failure({ error, onAgain }: FailureProps) {
  const { says, does } = sayFailure(error)
  const Icon = isNotAllowed(error) ? Lock : CircleX
  return (
    <div role="alert" className="flex max-w-2xl items-start gap-3">
      <Icon size={20} aria-hidden="true" className="mt-0.5 shrink-0 text-red" />
      <div>
        <p>
          <span className="text-red">{says}</span> <span className="text-soft">{does}</span>
        </p>
        {onAgain && (
          <Button className="mt-3" onClick={onAgain}>
            Try again
          </Button>
        )}
      </div>
    </div>
  )
}

/** Keeps the place of what is being read, so that nothing jumps when it comes. @param lines about as many as there will be */
export function Waiting({ lines = 5 }: { readonly lines?: number }) {
  return (
    <div role="status" aria-label="Reading …" className="grid max-w-3xl animate-wait gap-4">
      {Array.from({ length: lines }, (_, i) => i).map((i) => (
        <div key={i} className="h-4 rounded bg-line" style={{ width: `${[92, 64, 78, 50, 86][i % 5]}%` }} />
      ))}
    </div>
  )
}

type LoadedProps<Data> = {
  readonly of: { readonly data: Data | undefined; readonly error: unknown }
  readonly lines?: number
  readonly onAgain?: () => void
  readonly children: (data: Data) => ReactNode
}

/** What is made of something that is read: until it comes its place is kept, and where it cannot be read it says why. */
export function Loaded<Data>({ of: { data, error }, lines, onAgain, children }: LoadedProps<Data>) {
  if (error) return <Failure error={error} {...(onAgain && { onAgain })} />
  return data === undefined ? <Waiting {...(lines && { lines })} /> : children(data)
}

type EmptyProps = { readonly what: string; readonly example: string; readonly children?: ReactNode }

/** An empty page teaches: what this is, one example, and the way on. */
export function Empty({ what, example, children }: EmptyProps) {
  return (
    <div className="max-w-2xl">
      <p>{what}</p>
      <pre className="my-4 overflow-x-auto rounded-control bg-sunken px-4 py-3 font-mono text-sm">{example}</pre>
      {children}
    </div>
  )
}

type PagerProps = {
  /** Where the next page begins; null on the last. */
  readonly next: string | null | undefined
  /** Where this one begins; undefined on the first. */
  readonly after: string | undefined
  readonly onGo: (after: string | undefined) => void
}

/** The way through a long list: on to the next page, and back to the first. */
export function Pager({ next, after, onGo }: PagerProps) {
  if (!next && after === undefined) return null
  return (
    <div className="mt-6 flex gap-3">
      {after !== undefined && <Button onClick={() => onGo(undefined)}>First page</Button>}
      {next && <Button onClick={() => onGo(next)}>Next page</Button>}
    </div>
  )
}

/** Said beside the button that saved. */
export const Saved = ({ when }: { readonly when: boolean }) =>
  when && (
    <p role="status" className="flex items-center gap-1.5 text-sea">
      <CircleCheck size={17} aria-hidden="true" />
      saved
    </p>
  )
