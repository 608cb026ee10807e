import type { Urgency } from '../content/content.ts'
import type { Platform } from '../devices/device.ts'

/** What an app says of a kind of notification, once for all that are of it. */
export type ChannelSetting = {
  readonly title: string
  readonly note?: string | undefined
  /** Presets: what a notification says itself counts before them. */
  readonly urgency?: Urgency | undefined
  readonly sound?: string | undefined
  readonly ttlSeconds?: number | undefined
  /** Whether the app’s quiet hours, and its caps, apply to it. */
  readonly quietHours: boolean
  readonly caps: boolean
  /** What the platform’s own channels are called in the app; the channel’s name where nothing is said. */
  readonly names?: { readonly [P in Platform]?: string | undefined } | undefined
}

/** A channel as a notification is of it. */
export type Channel = ChannelSetting & { readonly no: number; readonly name: string }

export const isChannelName = (text: string): boolean => /^[a-z0-9][a-z0-9._-]{0,63}$/.test(text)

/** What a platform calls a channel. */
export const platformName = ({ name, names }: Pick<Channel, 'name' | 'names'>, platform: Platform): string =>
  names?.[platform] ?? name
