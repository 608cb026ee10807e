import type { Draft } from './draft.ts'

/** How it will look on a locked phone and in a browser: our own drawing, so that length and order can be judged. */
export function Previews({ draft, app }: { readonly draft: Draft; readonly app: string }) {
  const title = draft.title || 'Title'
  const body = draft.body || 'The body stands here.'
  return (
    <aside aria-label="Preview" className="lg:sticky lg:top-8 lg:self-start">
      <h2 className="mb-3">On a phone</h2>
      <div className="rounded-[2rem] bg-night px-4 pt-8 pb-14 text-on-night">
        <p className="text-center text-5xl leading-none font-light" aria-hidden="true">
          17:26
        </p>
        <div className="mt-8 rounded-2xl bg-on-night/12 px-4 py-3">
          <p className="flex justify-between text-xs text-on-night-soft">
            <span>{app}</span>
            <span>now</span>
          </p>
          <p dir="auto" className="mt-1 line-clamp-1 font-semibold break-words">
            {title}
          </p>
          <p dir="auto" className="line-clamp-4 text-sm leading-snug break-words">
            {body}
          </p>
        </div>
      </div>
      <h2 className="mt-8 mb-3">In a browser</h2>
      <div className="flex gap-3 rounded-md border border-line bg-surface px-4 py-3">
        <img src="/bell.svg" alt="" width="32" height="32" className="mt-1 self-start" />
        <div className="min-w-0">
          <p dir="auto" className="line-clamp-2 font-semibold break-words">
            {title}
          </p>
          <p dir="auto" className="line-clamp-3 text-sm leading-snug break-words">
            {body}
          </p>
        </div>
      </div>
    </aside>
  )
}
