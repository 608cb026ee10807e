import { defaultTtlSeconds, maxTtlSeconds, parseReference, targetLimits } from '@zbell/core'
import { z } from 'zod'
import { content, mode, urgency } from './content.ts'
import { instant, uuid } from './text.ts'

const reference = z
  .string()
  .superRefine((text, context) => {
    const read = parseReference(text)
    if (typeof read === 'string') context.addIssue({ code: 'custom', message: read })
  })
  .meta({ id: 'Reference', description: 'user:NAME, device:ID or everyone', examples: ['user:ada'] })

export const target = z
  .strictObject({ any: z.array(reference).min(1).max(targetLimits.references) })
  .meta({ id: 'Target', description: 'Every device that at least one reference names, each once.' })

export const notificationRequest = z
  .strictObject({
    to: target,
    content: content.partial({ title: true }).default({}),
    urgency: urgency.default('normal'),
    ttlSeconds: z.int().min(0).max(maxTtlSeconds).default(defaultTtlSeconds),
    mode: mode.default('show'),
  })
  .superRefine((request, context) => {
    if (request.mode === 'show' && !request.content.title) {
      context.addIssue({
        code: 'custom',
        path: ['content', 'title'],
        message: 'is needed: it is the first line that is shown',
      })
    }
  })
  .transform((request) => ({ ...request, content: { ...request.content, title: request.content.title ?? '' } }))

const count = z.int().min(0)

export const totals = z
  .object({
    expanded: count.describe('Devices found so far; the states below add up to it.'),
    queued: count,
    accepted: count,
    received: count,
    shown: count,
    dismissed: count,
    opened: count,
    skipped: count,
    refused: count,
    expired: count,
    withdrawn: count,
  })
  .meta({ id: 'Totals', description: 'How many deliveries are in each state now.' })

export const notificationState = z
  .enum(['expanding', 'sending', 'finished'])
  .describe('`finished`: nothing is left to do for the service; receipts may still come.')

export const reasonCount = z.object({ reason: z.string(), count, says: z.string(), does: z.string() })

export const notification = z
  .object({
    id: uuid,
    app: z.string(),
    environment: z.enum(['development', 'production']),
    state: notificationState,
    to: z.object({ any: z.array(z.string()) }),
    content,
    urgency,
    ttlSeconds: z.int(),
    mode,
    sentBy: z.string(),
    createdAt: instant,
    expiresAt: instant,
    finishedAt: instant.nullable(),
    totals,
    reasons: z.array(reasonCount).describe('Why deliveries ended where nobody saw them.'),
  })
  .meta({ id: 'Notification' })

export const accepted = z
  .object({ id: uuid, state: notificationState, createdAt: instant, expiresAt: instant })
  .meta({ id: 'AcceptedNotification' })

export type NotificationRequest = z.input<typeof notificationRequest>
export type Notification = z.infer<typeof notification>
export type Totals = z.infer<typeof totals>
