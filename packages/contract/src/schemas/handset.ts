import { appStates, directions, frontAnswers, permissions, platforms } from '@zbell/core'
import { z } from 'zod'
import { actionName, content } from './content.ts'
import { locale, timeZone, userName } from './device.ts'
import { instant, plainText, uuid } from './text.ts'

export const shownNotification = z.object({
  notification: z.string(),
  title: z.string(),
  body: z.string().nullable(),
  navigate: z.string().nullable(),
  tag: z.string().nullable(),
  subtitle: z.string().nullable(),
  image: z.string().nullable(),
  accent: z.string().nullable(),
  dir: z.enum(directions).nullable(),
  group: z.string().nullable().describe('What lies together in the tray.'),
  actions: z.array(z.object({ action: z.string(), title: z.string() })).describe('Its buttons.'),
  heard: z.string().nullable().describe('The sound that it came with, by its name; null when it came quietly.'),
  vibrated: z.array(z.number()).describe('Milliseconds of vibration and pause, by turns.'),
  shownAt: instant,
})

export const handset = z
  .object({
    id: z.string(),
    model: z.string(),
    platform: z.enum(platforms),
    user: z.string().nullable(),
    device: uuid.nullable().describe('The device that it is registered as.'),
    rehearsal: z.boolean().describe('Its token is a handset’s: it rings without any credential.'),
    installed: z.boolean(),
    permission: z.enum(permissions),
    muted: z.boolean(),
    appState: z.enum(appStates),
    locked: z.boolean(),
    online: z.boolean().describe('Without a network nothing arrives; it comes when the network is back.'),
    doNotDisturb: z.boolean(),
    lowPower: z.boolean().describe('What is not urgent comes ten seconds later.'),
    inFront: z.enum(frontAnswers).describe('What its app does with what arrives while it is in front.'),
    clock: instant.describe('What its own clock shows; it can be wrong.'),
    timeZone: z.string(),
    place: z.object({ longitude: z.number(), latitude: z.number() }).nullable(),
    badge: z.int(),
    lockScreen: z.array(shownNotification).describe('Newest first.'),
    watch: z
      .array(shownNotification)
      .nullable()
      .describe('What a paired watch mirrors: what came while the phone was locked. Null when there is none.'),
    toast: z.string().nullable().describe('What the app showed of its own, in place of a notification.'),
    opened: z.string().nullable().describe('Where the last tap led.'),
    topics: z.array(z.string()),
    blockedChannels: z.array(z.string()).describe('The app’s channels that its system blocks.'),
    mutedChannels: z.array(z.string()).describe('Those that its user muted in the app.'),
    plans: z.array(z.object({ name: z.string(), title: z.string(), ringsAt: instant.nullable() })),
    log: z.array(z.object({ at: instant, what: z.string() })).describe('What happened to it, newest first.'),
  })
  .meta({ id: 'Handset', description: 'A virtual device.' })

const handsetId = z.string().regex(/^[a-z0-9][a-z0-9-]{0,39}$/, 'wants up to 40 small letters, digits and hyphens')

const place = z.strictObject({ longitude: z.number().min(-180).max(180), latitude: z.number().min(-90).max(90) })

export const newHandset = z.strictObject({
  platform: z.enum(platforms),
  id: handsetId.optional().describe('What it is called; chosen when left out.'),
  user: userName.nullable().default(null),
  model: plainText(64).min(1).optional(),
  permission: z.enum(permissions).default('granted'),
  locale: locale.nullable().default('en'),
  timeZone: timeZone.optional(),
  watch: z.boolean().default(false).describe('With a watch that mirrors it.'),
})

/** What is turned, switched or carried about on a handset. */
export const handsetChange = z
  .strictObject({
    permission: z.enum(['granted', 'denied']).describe('In the system’s settings; the app cannot do that.'),
    muted: z.boolean(),
    user: userName.nullable().describe('Somebody signs in, or out.'),
    appState: z.enum(appStates),
    locked: z.boolean(),
    online: z.boolean(),
    doNotDisturb: z.boolean(),
    lowPower: z.boolean(),
    inFront: z.enum(frontAnswers),
    timeZone,
    clockOffsetSeconds: z.int().min(-31_536_000).max(31_536_000).describe('How far its clock is ahead.'),
    place: place.nullable(),
    blockedChannels: z
      .array(z.string().max(64))
      .max(100)
      .describe('In the system’s settings, which of the app’s channels are blocked.'),
  })
  .partial()

const ringable = content
  .refine(({ title }) => title !== '', { path: ['title'], message: 'is needed: it is the first line' })
  .describe('Rung on this handset alone, past the service.')

/** What a hand does with a handset. */
export const handsetAct = z.discriminatedUnion('do', [
  z.strictObject({
    do: z.literal('tap'),
    notification: z.string().max(64).optional(),
    action: actionName.optional().describe('Which of its buttons.'),
  }),
  z.strictObject({ do: z.literal('dismiss'), notification: z.string().max(64).optional() }),
  z.strictObject({ do: z.literal('ask'), answer: z.enum(['granted', 'denied']).describe('What its user answers.') }),
  z.strictObject({ do: z.literal('join'), topic: z.string() }),
  z.strictObject({ do: z.literal('leave'), topic: z.string() }),
  z.strictObject({ do: z.literal('mute-channel'), channel: z.string().max(64) }),
  z.strictObject({ do: z.literal('let-channel'), channel: z.string().max(64) }),
  z.strictObject({ do: z.literal('reboot') }),
  z.strictObject({ do: z.literal('remove') }),
  z.strictObject({ do: z.literal('install') }),
  z.strictObject({ do: z.literal('ring'), content: ringable }),
])

export const tapRequest = z.strictObject({
  notification: z.string().max(64).optional().describe('Which one; the newest when left out.'),
  action: actionName.optional().describe('Which of its buttons; the notification itself when left out.'),
})

export type Handset = z.infer<typeof handset>
export type NewHandset = z.input<typeof newHandset>
export type HandsetChange = z.infer<typeof handsetChange>
export type HandsetAct = z.infer<typeof handsetAct>
export type ShownNotification = z.infer<typeof shownNotification>
