import type { Review } from '@zbell/contract'
import { Image as ImageIcon } from 'lucide-react'
import type { ReactNode } from 'react'

type Sample = Review['samples'][number]
/** What is drawn: texts as one reader gets them. */
export type PictureContent = Pick<
  Sample['content'],
  'title' | 'subtitle' | 'body' | 'image' | 'actions' | 'dir' | 'accent'
>

export type Surface = 'ios' | 'android' | 'web' | 'watch'
/** On a phone: locked, lying in the tray, or opened out to its whole length. */
export type PictureState = 'locked' | 'tray' | 'opened'

type PictureProps = {
  readonly surface: Surface
  readonly state: PictureState
  readonly content: PictureContent
  readonly app: string
  /** Day or dusk on the drawn device, whatever the console has. */
  readonly dark: boolean
}

/** So many lines are seen before a platform cuts, by state. */
const cuts: Readonly<Record<PictureState, { readonly title: string; readonly body: string }>> = {
  locked: { title: 'line-clamp-1', body: 'line-clamp-2' },
  tray: { title: 'line-clamp-1', body: 'line-clamp-3' },
  opened: { title: '', body: '' },
}

const screens = {
  light: 'bg-[#dfe6e8] text-[#14293a] [--card:rgb(255_255_255/88%)] [--faint:#4c616e] [--chip:rgb(20_41_58/10%)]',
  dark: 'bg-[#14293a] text-[#e8eef0] [--card:rgb(232_238_240/13%)] [--faint:#a9bcc6] [--chip:rgb(232_238_240/16%)]',
} as const

/**
 * How a notification will look: our own drawings of a phone, a browser and a watch, cut where such surfaces cut, so that length
 * and order can be judged. Used wherever content is shown.
 */
export function ContentPicture({ surface, state, content, app, dark }: PictureProps) {
  const screen = screens[dark ? 'dark' : 'light']
  const card = <Card content={content} app={app} surface={surface} state={state} />
  switch (surface) {
    case 'ios':
    case 'android':
      return (
        <div className={`flex h-60 flex-col overflow-hidden rounded-[1.5rem] px-2.5 py-3 ${screen}`}>
          {state === 'locked' ? (
            <p className="mb-3 text-center text-2xl leading-none font-light" aria-hidden="true">
              17:26
            </p>
          ) : (
            <p className="mb-2 flex justify-between px-1 text-xs text-(--faint)" aria-hidden="true">
              <span>17:26</span>
              <span>{state === 'tray' ? 'tray' : 'opened'}</span>
            </p>
          )}
          {card}
        </div>
      )
    case 'web':
      return (
        <div className={`rounded-md p-3 ${screen}`}>
          <div className="flex gap-2.5">
            <img src="/bell.svg" alt="" width="24" height="24" className="mt-1 self-start" />
            {card}
          </div>
        </div>
      )
    case 'watch':
      return (
        <div
          className={`mx-auto flex size-28 items-center rounded-[1.6rem] p-3 ${screens.dark}`}
          dir={content.dir ?? 'auto'}
        >
          <Text className="line-clamp-4 w-full text-center text-sm leading-tight">{content.title}</Text>
        </div>
      )
    default:
      return surface satisfies never
  }
}

type CardProps = Omit<PictureProps, 'dark'>

function Card({ content, app, surface, state }: CardProps) {
  const { title, subtitle, body, image, actions = [], dir, accent } = content
  const { title: titleCut, body: bodyCut } = cuts[state]
  const web = surface === 'web'
  return (
    <div
      dir={dir ?? 'auto'}
      className={web ? 'min-w-0 flex-1' : 'min-h-0 overflow-y-auto rounded-xl bg-(--card) px-2.5 py-2'}
      style={accent && !web ? { boxShadow: `inset 3px 0 0 ${accent}` } : undefined}
    >
      {!web && (
        <p dir="ltr" className="flex justify-between gap-2 text-xs text-(--faint)">
          <span className="truncate">{app}</span>
          <span>now</span>
        </p>
      )}
      <Text className={`text-sm leading-snug font-semibold ${titleCut}`}>{title}</Text>
      {subtitle && <Text className={`text-xs leading-snug ${titleCut}`}>{subtitle}</Text>}
      {body && <Text className={`text-xs leading-snug whitespace-pre-line ${bodyCut}`}>{body}</Text>}
      {image && state !== 'locked' && (
        <p className="mt-1 flex items-center gap-1 text-xs text-(--faint)">
          <ImageIcon size={14} aria-hidden="true" /> a picture
        </p>
      )}
      {actions.length > 0 && (state === 'opened' || web) && (
        <p className="mt-1.5 flex flex-wrap gap-1 text-xs">
          {actions.slice(0, web ? 2 : surface === 'android' ? 3 : 4).map((one) => (
            <span key={one.action} className="rounded bg-(--chip) px-1.5 py-0.5">
              <bdi>{one.title}</bdi>
            </span>
          ))}
        </p>
      )}
    </div>
  )
}

/** Where a value is missing its name stands, marked, in its place. */
function Text({ className, children }: { readonly className: string; readonly children: string }) {
  return <p className={`break-words ${className}`}>{marked(children)}</p>
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
