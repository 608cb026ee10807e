import { maxTtlSeconds } from '@zbell/core'
import { isChannelName } from '@zbell/core/policy'
import { z } from 'zod'
import { label, urgency } from './content.ts'
import { instant, plainText } from './text.ts'

export const channelName = z
  .string()
  .refine(isChannelName, 'is not a channel: small letters, digits, dots, hyphens and underscores, 64 at most')

const platformChannel = plainText(100).min(1)

export const channelSetting = z.strictObject({
  title: plainText(80).min(1).describe('What the app’s settings call it.'),
  note: plainText(200).optional().describe('What it is for, in a sentence.'),
  urgency: urgency.optional().describe('Of its notifications that say none.'),
  sound: label.optional().describe('Of its notifications that name none.'),
  ttlSeconds: z.int().min(0).max(maxTtlSeconds).optional().describe('Of its notifications that say none.'),
  quietHours: z.boolean().default(true).describe('Whether the app’s quiet hours apply to it.'),
  caps: z.boolean().default(true).describe('Whether the app’s caps apply to it.'),
  names: z
    .strictObject({ ios: platformChannel, android: platformChannel, web: platformChannel })
    .partial()
    .optional()
    .describe('What the platform’s own channel is called in the app, by platform; the same name when left out.'),
})

export const channel = channelSetting
  .extend({
    channel: z.string(),
    mutedBy: z.int().describe('How many people have muted it in the app.'),
    blockedOn: z.int().describe('On how many devices the system blocks it.'),
    madeBy: z.string(),
    changedAt: instant,
  })
  .meta({ id: 'Channel', description: 'A kind of notification: how it comes, where a topic says what it is about.' })

export const ownChannel = z
  .object({
    channel: z.string(),
    title: z.string(),
    note: z.string().nullable(),
    name: z.string().describe('What it is called on this device’s platform.'),
    muted: z.boolean().describe('The person muted it in the app; that holds on all of their devices.'),
    blocked: z.boolean().describe('The system blocks it on this device, as it told last.'),
  })
  .meta({ id: 'OwnChannel' })

export const ownChannelChange = z.strictObject({ muted: z.boolean() })

export type Channel = z.infer<typeof channel>
export type OwnChannel = z.infer<typeof ownChannel>
