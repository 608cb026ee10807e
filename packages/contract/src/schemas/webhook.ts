import { kindPattern } from '@zbell/core/webhooks'
import { z } from 'zod'
import { pageQuery } from './page.ts'
import { anyJson, instant } from './text.ts'
import { triggerName } from './trigger.ts'

const webhookLimits = Object.freeze({ batch: 2_000, keptHours: 720, urlChars: 2_000 })

export const webhookName = triggerName

export const kindChoice = z
  .string()
  .regex(kindPattern, 'wants a kind of event, such as device.retired, or delivery.* for a family')

export const newWebhook = z.strictObject({
  url: z
    .string()
    .min(1)
    .max(webhookLimits.urlChars)
    .optional()
    .describe('An https address; kept sealed. The one that is kept when left out.'),
  kinds: z
    .array(kindChoice)
    .min(1)
    .max(100)
    .describe('Kinds of events by name; `delivery.*` means all of a family, `*` all.'),
  when: z
    .string()
    .min(1)
    .max(4_000)
    .optional()
    .describe('CEL, over event: only those for which it holds are delivered.'),
  batch: z
    .int()
    .min(1)
    .max(webhookLimits.batch)
    .default(1)
    .describe('The most events of a request. 1: each goes alone; more: each request is a list, in the batched mode.'),
  ca: z.string().max(20_000).optional().describe('Certificates to trust for it, as PEM.'),
  enabled: z.boolean().optional().describe('Left out: as it is by now; a new one is on.'),
})

export const webhook = z
  .object({
    name: z.string(),
    url: z.string().nullable().describe('Without what its query holds; null where no master key opens it any more.'),
    kinds: z.array(z.string()),
    when: z.string().nullable(),
    batch: z.int(),
    ca: z.string().nullable(),
    enabled: z.boolean(),
    offBecause: z.string().nullable().describe('The receiver wanted nothing more; enabling it asks it again.'),
    secret: z.string().nullable().describe('The one that was made just now; it is shown this once.'),
    olderSecretsUntil: z.array(instant).describe('Until when secrets sign that were replaced.'),
    waiting: z.int().min(0).describe('Events that wait to be delivered.'),
    waitingIsAll: z.boolean().describe('False when more wait than are counted here.'),
    waitingSince: instant.nullable(),
    fault: z.string().nullable().describe('What is wrong, while the receiver does not acknowledge what it is sent.'),
    faultSince: instant.nullable(),
    restsUntil: instant.nullable().describe('Its receiver is failing, and is left alone until then.'),
    toldAt: instant.nullable(),
    dropped: z
      .int()
      .min(0)
      .describe('Events that were not delivered, because there was no room or no time left for them.'),
    droppedAt: instant.nullable(),
    madeBy: z.string(),
    changedAt: instant,
  })
  .meta({ id: 'Webhook', description: 'An address of the app’s own server to which events are delivered.' })

export const webhookChange = z.strictObject({ enabled: z.boolean() })

export const webhookSecretChange = z.strictObject({
  keepHours: z
    .number()
    .min(0)
    .max(webhookLimits.keptHours)
    .default(24)
    .describe('For so long the secret before signs beside the new one; 0: it ends at once.'),
})

export const webhookTry = z.strictObject({
  kind: z
    .string()
    .max(80)
    .optional()
    .describe('Whose example is sent; the first of the webhook’s kinds when left out.'),
})

const outcome = z.enum(['told', 'again', 'given-up', 'unwanted', 'dropped', 'tried'])

export const webhookEntry = z
  .object({
    no: z.int(),
    at: instant,
    message: z.string().describe('The header webhook-id; the event’s own id where it went alone.'),
    kind: z.string().nullable().describe('Of its events, where all are of one.'),
    events: z.int(),
    attempt: z.int(),
    outcome: outcome.describe(
      '`again`: it is tried once more. `given-up`: three days were over. `unwanted`: 410, and the webhook is off. `dropped`: there was no room for what waited. `tried`: by hand.',
    ),
    status: z.int().nullable(),
    durationMs: z.int(),
    says: z.string().nullable(),
    again: z.boolean().describe('It was delivered again because somebody asked for it.'),
  })
  .meta({ id: 'WebhookEntry' })

export const webhookLogQuery = {
  ...pageQuery,
  outcome: outcome.optional(),
  kind: z.string().max(80).optional(),
}

const request = z.object({
  url: z.string().nullable(),
  headers: z.record(z.string(), z.string()),
  body: z.string(),
})

export const webhookRequest = z
  .object({
    entry: webhookEntry,
    request: request.nullable().describe('As it went out; null for an attempt that was made again, or was dropped.'),
    answer: z.string().nullable().describe('The beginning of what was answered.'),
  })
  .meta({ id: 'WebhookRequest' })

export const webhookReplay = z.union([
  z.strictObject({
    entry: z.int().min(1).describe('Of the log.'),
    event: z.string().max(80).optional().describe('One of its events, by its id.'),
  }),
  z.strictObject({
    from: instant,
    to: instant.optional().describe('Until now when left out.'),
    outcome: z.enum(['told', 'given-up']).optional(),
    kind: z.string().max(80).optional(),
  }),
])

export const webhookReplayed = z
  .object({
    events: z.int().min(0).describe('How many are delivered again.'),
    isAll: z.boolean().describe('False when there are more: go on with a later span.'),
  })
  .meta({ id: 'WebhookReplayed' })

export const eventKind = z
  .object({
    kind: z.string(),
    says: z.string(),
    dataschema: z.string(),
    example: anyJson.describe('A whole event.'),
  })
  .meta({ id: 'EventKind', description: 'A kind of event that webhooks can ask for.' })

export type Webhook = z.infer<typeof webhook>
export type WebhookEntry = z.infer<typeof webhookEntry>
export type WebhookRequest = z.infer<typeof webhookRequest>
