import { Image as ImageIcon, Music2 } from 'lucide-react'
import type { ReactNode } from 'react'

type WordsProps = {
  readonly title: string
  readonly subtitle?: string | null | undefined
  readonly body?: string | null | undefined
  readonly image?: unknown
  /** What it sounds like, where that is something of its own. */
  readonly sound?: string | undefined
  /** How much a surface shows before it cuts. */
  readonly cut: Cut
  /** When it came, at the end of its first line. */
  readonly since?: string | undefined
}

/** Locked, lying in the tray, or opened out to its whole length. */
export type Cut = 'locked' | 'tray' | 'opened'

/** So many lines are seen before a platform cuts. */
const cuts: Readonly<Record<Cut, { readonly title: string; readonly body: string }>> = {
  locked: { title: 'line-clamp-1', body: 'line-clamp-2' },
  tray: { title: 'line-clamp-1', body: 'line-clamp-3' },
  opened: { title: '', body: '' },
}

/** What a notification says, cut where devices cut: the words of every picture, and of the handsets. */
export function NotificationWords({ title, subtitle, body, image, sound, cut, since }: WordsProps) {
  const { title: titleCut, body: bodyCut } = cuts[cut]
  return (
    <>
      <span className="flex items-baseline justify-between gap-3">
        <Line className={`text-sm leading-snug font-semibold ${titleCut}`}>{title}</Line>
        {since && <span className="shrink-0 text-xs whitespace-nowrap text-(--faint)">{since}</span>}
      </span>
      {subtitle && <Line className={`text-xs leading-snug ${titleCut}`}>{subtitle}</Line>}
      {body && <Line className={`text-xs leading-snug whitespace-pre-line ${bodyCut}`}>{body}</Line>}
      {((image && cut !== 'locked') || sound) && (
        <span className="mt-1 flex flex-wrap items-center gap-x-3 text-xs text-(--faint)">
          {image && cut !== 'locked' ? (
            <span className="flex items-center gap-1">
              <ImageIcon size={14} aria-hidden="true" /> a picture
            </span>
          ) : null}
          {sound && (
            <span className="flex items-center gap-1">
              <Music2 size={13} aria-hidden="true" /> {sound}
            </span>
          )}
        </span>
      )}
    </>
  )
}

/** Where a value is missing its name stands, marked, in its place. */
export function Line({ className, children }: { readonly className: string; readonly children: string }) {
  return <span className={`block min-w-0 break-words ${className}`}>{marked(children)}</span>
}

/** A place in a text that nothing has filled in yet: `{pier}`, `{delay, number}`. */
const hole = /(\{\s*[\w-]+\s*(?:,[^{}]*)?\})/
function marked(text: string): ReactNode {
  return text.split(hole).map((part, i) =>
    hole.test(part) ? (
      // biome-ignore lint/suspicious/noArrayIndexKey: the parts of a text have no other identity
      <mark key={i} className="rounded bg-[#f3d9a0] px-0.5 text-[#4a3200]">
        {part.replace(/^\{\s*([\w-]+).*$/s, '{$1}')}
      </mark>
    ) : (
      part
    ),
  )
}
