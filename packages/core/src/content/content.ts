/** RFC 8030 §5.3. */
export const urgencies = ['very-low', 'low', 'normal', 'high'] as const
export type Urgency = (typeof urgencies)[number]

export const modes = ['show', 'wake'] as const
export type Mode = (typeof modes)[number]

export type Json = null | boolean | number | string | readonly Json[] | { readonly [key: string]: Json }

/** What a notification says, in the words of the WHATWG Notifications standard and the W3C Push API (§ declarative message). */
export type Content = {
  readonly title: string
  readonly body?: string | undefined
  /** Where a tap leads: an absolute URL, or a path within the app (`/sailings/12`). */
  readonly navigate?: string | undefined
  readonly data?: { readonly [key: string]: Json } | undefined
  /** A newer notification with the same tag takes the older one's place on the device. */
  readonly tag?: string | undefined
}

/** Largest sizes of each part: characters for text, bytes of JSON for data, levels of nesting for data. */
export const contentLimits = Object.freeze({
  titleChars: 200,
  bodyChars: 2_000,
  navigateChars: 2_000,
  tagChars: 32,
  dataBytes: 3_000,
  dataDepth: 8,
})

/** The longest a notification may live: four weeks, in seconds. */
export const maxTtlSeconds = 2_419_200
export const defaultTtlSeconds = 86_400
