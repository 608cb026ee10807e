import { appStates, permissions, platforms } from '@zbell/core'
import { z } from 'zod'
import { locale, timeZone, userName } from './device.ts'
import { instant, plainText, uuid } from './text.ts'

export const shownNotification = z.object({
  notification: uuid,
  title: z.string(),
  body: z.string().nullable(),
  navigate: z.string().nullable(),
  tag: z.string().nullable(),
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
    permission: z.enum(permissions),
    appState: z.enum(appStates),
    locked: z.boolean(),
    clock: instant,
    badge: z.int(),
    lockScreen: z.array(shownNotification).describe('Newest first.'),
    opened: z.string().nullable().describe('Where the last tap led.'),
  })
  .meta({ id: 'Handset', description: 'A virtual device.' })

export const newHandset = z.strictObject({
  platform: z.enum(platforms),
  id: z
    .string()
    .regex(/^[a-z0-9][a-z0-9-]{0,39}$/, 'wants up to 40 small letters, digits and hyphens')
    .optional()
    .describe('What it is called; chosen when left out.'),
  user: userName.nullable().default(null),
  model: plainText(64).min(1).optional(),
  permission: z.enum(permissions).default('granted'),
  locale: locale.nullable().default('en'),
  timeZone: timeZone.optional(),
})

export const tapRequest = z.strictObject({
  notification: uuid.optional().describe('Which one; the newest when left out.'),
})

export type Handset = z.infer<typeof handset>
export type NewHandset = z.input<typeof newHandset>
export type ShownNotification = z.infer<typeof shownNotification>
