import type { Action, Commands, Content, Direction, Json, Mode } from '../content/content.ts'

/**
 * The member that carries our own: the notification's id, by which a device drops a second copy, its mode, and what the kit
 * is told to do.
 */
export type OwnMember = {
  readonly notification: string
  readonly mode: Mode
  readonly channel?: string | undefined
  readonly group?: string | undefined
  readonly commands?: Commands | undefined
}

/** A push message in the declarative form of the W3C Push API, with our own member beside the standard's. */
export type DeclarativeMessage = {
  readonly web_push: 8030
  readonly notification: {
    readonly title: string
    readonly navigate: string
    readonly body?: string
    readonly lang?: string
    readonly dir?: Direction
    readonly tag?: string
    readonly icon?: string
    readonly image?: string
    readonly badge?: string
    readonly vibrate?: readonly number[]
    readonly timestamp?: number
    readonly renotify?: boolean
    readonly silent?: boolean
    readonly requireInteraction?: boolean
    readonly actions?: readonly Action[]
    readonly data?: { readonly [key: string]: Json }
  }
  /** The number on the app's icon. */
  readonly app_badge?: number
  readonly mutable: true
  readonly zephyr: OwnMember
}

/** @param origin the web app's origin, to which a path in `navigate` belongs, and where a tap leads without one */
export function declarativeMessage(id: string, content: Content, mode: Mode, origin: string): DeclarativeMessage {
  const {
    title,
    subtitle,
    body,
    navigate = '/',
    actions,
    badgeCount,
    channel,
    group,
    sound,
    silent,
    commands,
    ...rest
  } = content
  const whole = (place: string) => (place.startsWith('/') ? origin + place : place)
  // A browser has one line below the title.
  const below = [subtitle, body].filter((text) => text !== undefined).join('\n')
  const same = Object.fromEntries(
    standardMembers.flatMap((name) => (rest[name] === undefined ? [] : [[name, rest[name]]])),
  ) as object
  const quiet = silent ?? (sound === 'none' ? true : undefined)
  return {
    web_push: 8030,
    notification: {
      title,
      navigate: whole(navigate),
      ...(below === '' ? {} : { body: below }),
      ...same,
      ...(quiet === undefined ? {} : { silent: quiet }),
      ...(actions
        ? { actions: actions.map((one) => (one.navigate ? { ...one, navigate: whole(one.navigate) } : one)) }
        : {}),
    },
    ...(typeof badgeCount === 'number' ? { app_badge: badgeCount } : {}),
    mutable: true,
    zephyr: {
      notification: id,
      mode,
      ...(channel === undefined ? {} : { channel }),
      ...(group === undefined ? {} : { group }),
      ...(commands === undefined ? {} : { commands }),
    },
  }
}

/** What the standard calls by the same name as we do, so that it goes as it is. */
const standardMembers = [
  'lang',
  'dir',
  'tag',
  'icon',
  'image',
  'badge',
  'vibrate',
  'timestamp',
  'renotify',
  'requireInteraction',
  'data',
] as const
