import { type Content, jsonOf, type Mode, type Urgency } from '@zbell/core'
import { z } from 'zod'

/** What reaches a device, whichever gateway it came through. */
export type Arriving = Content & {
  /** The notification's id; none for what did not come from the service. */
  readonly notification: string | undefined
  readonly mode: Mode
  readonly urgency?: Urgency
}

/** How a notification is dressed, the same on both stand-ins: everything beyond its words, its place, its tag and its data. */
export const dress = z
  .strictObject({
    subtitle: z.string(),
    lang: z.string(),
    dir: z.enum(['auto', 'ltr', 'rtl']),
    icon: z.string(),
    image: z.string(),
    badge: z.string(),
    accent: z.string(),
    sound: z.string(),
    vibrate: z.array(z.number()),
    badgeCount: z.union([z.number(), z.literal('unread')]),
    actions: z.array(
      z.strictObject({
        action: z.string(),
        title: z.string(),
        icon: z.string().optional(),
        navigate: z.string().optional(),
      }),
    ),
    renotify: z.boolean(),
    group: z.string(),
    channel: z.string(),
    silent: z.boolean(),
    requireInteraction: z.boolean(),
    timestamp: z.number(),
  })
  .partial()

/** Hands a message on to whoever has the token. */
export type HandOver = (token: string, arriving: Arriving) => void

/** What of it is for the kit in the app: it lies among the app's own data, as the one name that the app does not use. */
const bell = z.object({ id: z.string(), orders: z.record(z.string(), z.json()).optional() })

/** What an app on the device makes of its data; where the gateway takes texts only, `bell` is JSON in one. */
export function bellIn(
  hold: Readonly<Record<string, unknown>> = {},
): Pick<Arriving, 'notification' | 'data' | 'commands'> {
  const { bell: given, ...data } = hold
  const read = bell.safeParse(typeof given === 'string' ? jsonOf(given)?.value : given)
  return {
    notification: read.data?.id,
    ...(Object.keys(data).length === 0 ? {} : { data: data as never }),
    ...(read.data?.orders === undefined ? {} : { commands: read.data.orders as never }),
  }
}

/** Gateways count bytes, not letters. */
export const textOfBytes = (most: number) => z.string().refine((text) => Buffer.byteLength(text) <= most)
