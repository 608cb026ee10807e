import type { Handset, ShownNotification } from '@zbell/contract'
import { type Stack, span, stacksOf } from '@zbell/contract/words'
import { NotificationWords } from '../content/notification-words.tsx'
import { Scrolls } from '../parts/disclosure.tsx'

/** A handset's screen: its lock screen and tray, or the app in front. A click on a notification is a tap. */
export function Screen({
  handset,
  onTap,
}: {
  readonly handset: Handset
  readonly onTap: (notification: string, action?: string) => void
}) {
  const clock = new Date(handset.clock)
  const time = { timeZone: handset.timeZone }
  const stacks = stacksOf(handset.lockScreen)
  return (
    <div className="dusk mt-3 flex h-96 flex-col overflow-hidden rounded-[1.75rem] bg-night px-4 pt-3 pb-4 text-on-night [--faint:var(--on-night-soft)]">
      <p className="flex justify-between text-xs text-on-night-soft">
        <span>{handset.online ? '▂▄▆' : 'no network'}</span>
        <span>{[handset.doNotDisturb && '☾ quiet', handset.lowPower && '◔ low power'].filter(Boolean).join('  ')}</span>
      </p>
      {handset.locked ? (
        <div className="mt-3 text-center">
          <p className="text-4xl leading-none font-light">
            {clock.toLocaleTimeString('en-GB', { ...time, hour: '2-digit', minute: '2-digit' })}
          </p>
          <p className="mt-1 text-sm text-on-night-soft">
            {clock.toLocaleDateString('en-GB', { ...time, weekday: 'long', day: 'numeric', month: 'long' })}
          </p>
        </div>
      ) : (
        <p className="mt-3 text-sm">{where(handset)}</p>
      )}
      {handset.toast && <p className="mt-3 rounded-md bg-on-night px-3 py-2 text-sm text-night">{handset.toast}</p>}
      <Scrolls className="mt-3 min-h-0 flex-1" label={`What lies on ${handset.id}`}>
        <ul className="grid gap-2 pe-2">
          {stacks.map((stack) => (
            <li key={stack.top.notification}>
              <Card
                stack={stack}
                clock={clock}
                locked={handset.locked}
                onTap={(action) => onTap(stack.top.notification, action)}
              />
            </li>
          ))}
        </ul>
      </Scrolls>
      <div className="mt-2 flex shrink-0 items-end justify-between gap-3 text-xs text-on-night-soft">
        <span>
          {handset.installed ? `badge ${handset.badge}` : 'the app is not installed'}
          {handset.topics.length > 0 && `, follows ${handset.topics.join(', ')}`}
        </span>
        {handset.watch && <Watch all={handset.watch} />}
      </div>
    </div>
  )
}

function where({ installed, appState, opened }: Handset): string {
  if (!installed || appState !== 'front') return 'On the home screen'
  return opened ? `In the app, at ${opened}` : 'In the app'
}

function Card({
  stack: { top: one, below },
  clock,
  locked,
  onTap,
}: {
  readonly stack: Stack
  readonly locked: boolean
  readonly clock: Date
  readonly onTap: (action?: string) => void
}) {
  const sound = one.heard !== null && one.heard !== 'default' ? one.heard : undefined
  return (
    <div
      className="rounded-xl bg-on-night/12"
      style={one.accent ? { boxShadow: `inset 3px 0 0 ${one.accent}` } : undefined}
    >
      <button
        type="button"
        className="block w-full cursor-pointer rounded-xl px-3 py-2 text-start hover:bg-on-night/20"
        dir={one.dir ?? undefined}
        onClick={() => onTap()}
      >
        <NotificationWords
          title={one.title}
          subtitle={one.subtitle}
          body={one.body}
          image={one.image}
          sound={sound}
          cut={locked ? 'locked' : 'tray'}
          since={since(clock.getTime() - Date.parse(one.shownAt))}
        />
      </button>
      {one.actions.length > 0 && (
        <div className="flex flex-wrap gap-1.5 px-3 pb-2">
          {one.actions.map(({ action, title }) => (
            <button
              key={action}
              type="button"
              className="cursor-pointer rounded-md bg-on-night/15 px-2 py-0.5 text-xs hover:bg-on-night/30"
              onClick={() => onTap(action)}
            >
              <bdi>{title}</bdi>
            </button>
          ))}
        </div>
      )}
      {below.length > 0 && (
        <p className="border-t border-on-night-soft/25 px-3 py-1 text-xs text-on-night-soft">
          {below.length} more of {one.group}
        </p>
      )}
    </div>
  )
}

function Watch({ all }: { readonly all: readonly ShownNotification[] }) {
  return (
    <span className="flex size-16 items-center justify-center rounded-2xl border border-on-night-soft/50 p-1.5 text-center leading-tight">
      <span className="sr-only">Its watch shows </span>
      <bdi className="line-clamp-3 break-words">{all[0]?.title ?? 'nothing'}</bdi>
    </span>
  )
}

const since = (ms: number): string => (ms < 60_000 ? 'now' : span(ms))
