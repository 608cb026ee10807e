import type { Review } from '@zbell/contract'
import { type Cut, Line, NotificationWords } from './notification-words.tsx'

type Sample = Review['samples'][number]
/** What is drawn: texts as one reader gets them. */
export type PictureContent = Pick<
  Sample['content'],
  'title' | 'subtitle' | 'body' | 'image' | 'actions' | 'dir' | 'accent'
>

export type Surface = 'ios' | 'android' | 'web' | 'watch'
export type PictureState = Cut

type PictureProps = {
  readonly surface: Surface
  readonly state: PictureState
  readonly content: PictureContent
  readonly app: string
  /** Day or dusk on the drawn device, whatever the console has. */
  readonly dark: boolean
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
          <Line className="line-clamp-4 w-full text-center text-sm leading-tight">{content.title}</Line>
        </div>
      )
    default:
      return surface satisfies never
  }
}

type CardProps = Omit<PictureProps, 'dark'>

function Card({ content, app, surface, state }: CardProps) {
  const { title, subtitle, body, image, actions = [], dir, accent } = content
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
      <NotificationWords title={title} subtitle={subtitle} body={body} image={image} cut={state} />
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
