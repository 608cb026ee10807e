import { appStates, permissions, platforms } from '@zbell/core'
import { z } from 'zod'
import { instant, uuid } from './text.ts'

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
    permission: z.enum(permissions),
    appState: z.enum(appStates),
    locked: z.boolean(),
    clock: instant,
    badge: z.int(),
    lockScreen: z.array(shownNotification).describe('Newest first.'),
    opened: z.string().nullable().describe('Where the last tap led.'),
  })
  .meta({ id: 'Handset', description: 'A virtual device.' })

export const tapRequest = z.strictObject({
  notification: uuid.optional().describe('Which one; the newest when left out.'),
})

export type Handset = z.infer<typeof handset>
export type ShownNotification = z.infer<typeof shownNotification>
