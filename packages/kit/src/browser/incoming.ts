import { type Action, isUuid, type Json, type Mode } from '@zbell/core/states'

/** A push message as the service worker understands it. */
export type Incoming = {
  readonly id: string | undefined
  readonly mode: Mode
  readonly title: string
  readonly navigate: string | undefined
  readonly badgeCount: number | undefined
  /** What the kit is told to do, as it came. */
  readonly commands: unknown
  readonly options: {
    readonly body?: string
    readonly channel?: string
    readonly tag?: string
    readonly lang?: string
    readonly dir?: 'auto' | 'ltr' | 'rtl'
    readonly icon?: string
    readonly image?: string
    readonly badge?: string
    readonly vibrate?: readonly number[]
    readonly timestamp?: number
    readonly actions?: readonly Action[]
    readonly silent?: boolean
    readonly renotify?: boolean
    readonly requireInteraction?: boolean
    readonly data?: Json
  }
}

const texts = ['body', 'tag', 'lang', 'icon', 'image', 'badge'] as const
const flags = ['silent', 'renotify', 'requireInteraction'] as const

/**
 * Reads a declarative push message (W3C Push API), with or without this service's own member.
 * @returns `undefined` for what is not one: whoever sent it, there is nothing that could be shown of it
 */
export function readIncoming(text: string): Incoming | undefined {
  let message: unknown
  try {
    message = JSON.parse(text)
  } catch {
    return undefined // Not JSON, so not in the declarative form.
  }
  const { web_push, notification, zephyr, app_badge } = asObject(message)
  if (web_push !== 8030) return undefined
  const given = asObject(notification)
  const own = asObject(zephyr)
  const mode: Mode = own.mode === 'wake' ? 'wake' : 'show'
  if (typeof given.title !== 'string' || (given.title === '' && mode === 'show')) return undefined
  return {
    id: typeof own.notification === 'string' && isUuid(own.notification) ? own.notification : undefined,
    mode,
    title: given.title,
    navigate: typeof given.navigate === 'string' ? given.navigate : undefined,
    commands: own.commands,
    badgeCount: typeof app_badge === 'number' ? app_badge : undefined,
    options: {
      ...pick(given, texts, 'string'),
      ...pick(own, ['channel'], 'string'),
      ...pick(given, flags, 'boolean'),
      ...(given.dir === 'auto' || given.dir === 'ltr' || given.dir === 'rtl' ? { dir: given.dir } : {}),
      ...(typeof given.timestamp === 'number' ? { timestamp: given.timestamp } : {}),
      ...(Array.isArray(given.vibrate) ? { vibrate: given.vibrate.filter((ms) => typeof ms === 'number') } : {}),
      ...(Array.isArray(given.actions) ? { actions: given.actions.filter(isAction) } : {}),
      ...(given.data === undefined ? {} : { data: given.data as Json }),
    },
  }
}

const isAction = (given: unknown): given is Action => {
  const { action, title } = asObject(given)
  return typeof action === 'string' && typeof title === 'string'
}

const asObject = (value: unknown): Record<string, unknown> =>
  typeof value === 'object' && value !== null && !Array.isArray(value) ? (value as Record<string, unknown>) : {}

const pick = (from: Record<string, unknown>, names: readonly string[], type: string): object =>
  Object.fromEntries(names.flatMap((name) => (typeof from[name] === type ? [[name, from[name]]] : [])))
