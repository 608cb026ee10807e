/** RFC 8030 §5.3. */
export const urgencies = ['very-low', 'low', 'normal', 'high'] as const
export type Urgency = (typeof urgencies)[number]

export const modes = ['show', 'wake'] as const
export type Mode = (typeof modes)[number]

export type Json = null | boolean | number | string | readonly Json[] | { readonly [key: string]: Json }

export const directions = ['auto', 'ltr', 'rtl'] as const
export type Direction = (typeof directions)[number]

/** A button on a notification: its name tells the app which was pressed, its own place replaces the notification's. */
export type Action = {
  readonly action: string
  readonly title: string
  readonly icon?: string | undefined
  readonly navigate?: string | undefined
}

/**
 * What a notification says, in the words of the WHATWG Notifications standard and the W3C Push API (§ declarative
 * message) wherever these have one. Everything here is what one device gets: its language chosen, its values filled in.
 */
export type Content = {
  readonly title: string
  readonly subtitle?: string | undefined
  readonly body?: string | undefined
  /** The language of the texts (BCP 47). */
  readonly lang?: string | undefined
  readonly dir?: Direction | undefined
  /** Addresses of pictures: a small one beside the text, a large one below it, a one-coloured one for the status bar. */
  readonly icon?: string | undefined
  readonly image?: string | undefined
  readonly badge?: string | undefined
  /** A colour, `#rrggbb`, for what the platform tints. */
  readonly accent?: string | undefined
  /** `default`, `none`, or a sound that the app carries, by its name. */
  readonly sound?: string | undefined
  /** Milliseconds of vibration and pause, by turns. */
  readonly vibrate?: readonly number[] | undefined
  /** The number on the app's icon, or how many are unread. */
  readonly badgeCount?: number | 'unread' | undefined
  readonly actions?: readonly Action[] | undefined
  /** Where a tap leads: an absolute URL, or a path within the app (`/sailings/12`). */
  readonly navigate?: string | undefined
  readonly data?: { readonly [key: string]: Json } | undefined
  /** What the service’s kit on the device is told to do; with a `wake` only. The app’s own `data` stays the app’s. */
  readonly commands?: Commands | undefined
  /** A newer notification with the same tag takes the older one's place on the device. */
  readonly tag?: string | undefined
  /** Whether a newer one that takes another's place rings again. */
  readonly renotify?: boolean | undefined
  /** The kind of notification that it is, as the app declares kinds. */
  readonly channel?: string | undefined
  /** What lies together in the tray. */
  readonly group?: string | undefined
  readonly silent?: boolean | undefined
  readonly requireInteraction?: boolean | undefined
  /** The moment that it speaks of, in milliseconds since 1970. */
  readonly timestamp?: number | undefined
}

/** What a `wake` has the kit do on the device. */
export type Commands = {
  /** Removes what is shown: one notification by its id, or all with a tag. */
  readonly withdraw?: { readonly id?: string | undefined; readonly tag?: string | undefined } | undefined
  /** Plans to keep, each in place of one of the same name. */
  readonly plans?:
    | readonly {
        readonly name: string
        readonly when: { readonly [key: string]: Json }
        readonly content: { readonly [key: string]: Json }
      }[]
    | undefined
  /** Names of plans that are not to ring. */
  readonly cancel?: readonly string[] | undefined
}

/** Largest sizes of each part: characters for text, bytes of JSON for data, levels of nesting for data. */
export const contentLimits = Object.freeze({
  titleChars: 200,
  bodyChars: 2_000,
  navigateChars: 2_000,
  tagChars: 32,
  dataBytes: 3_000,
  dataDepth: 8,
  plans: 64,
  actions: 4,
  actionTitleChars: 60,
  vibrations: 20,
  vibrateMs: 10_000,
  languages: 60,
  nameChars: 64,
  values: 100,
})

/** The longest a notification may live: four weeks, in seconds. */
export const maxTtlSeconds = 2_419_200
export const defaultTtlSeconds = 86_400
/** The longest that a sending may be spread over: a day. */
export const maxSpreadSeconds = 86_400
