import { z } from 'zod'
import { notificationRequest } from './schemas/notification.ts'
import { newSource } from './schemas/source.ts'
import { newTemplate } from './schemas/template.ts'
import { newTrigger } from './schemas/trigger.ts'
import { newWebhook } from './schemas/webhook.ts'

const said = (type: z.ZodType, title: string): Record<string, unknown> => ({
  ...z.toJSONSchema(type, { io: 'input', unrepresentable: 'any' }),
  title,
})

/** A definition in a file, which says its name as well. */
const named = (type: z.ZodType, title: string, name: string): Record<string, unknown> => {
  const text = { type: 'string' }
  const withName = (schema: Record<string, unknown>): Record<string, unknown> =>
    Array.isArray(schema.oneOf)
      ? { ...schema, oneOf: schema.oneOf.map((one) => withName(one as Record<string, unknown>)) }
      : {
          ...schema,
          properties: { [name]: text, ...(schema.properties as object) },
          required: [name, ...((schema.required as string[] | undefined) ?? [])],
        }
  return withName(said(type, title))
}

/** A notification in a file, as JSON Schema 2020-12, so that an editor completes and checks it while it is written. */
export const notificationFileSchema = (): Record<string, unknown> => {
  const schema = said(notificationRequest, 'Notification') as { required?: string[] }
  // Whom it is for can be said when it is sent.
  return { ...schema, required: (schema.required ?? []).filter((name) => name !== 'to') }
}

export const templateFileSchema = (): Record<string, unknown> => said(newTemplate, 'Template')

export const triggerFileSchema = (): Record<string, unknown> => named(newTrigger, 'Trigger', 'trigger')

export const webhookFileSchema = (): Record<string, unknown> => named(newWebhook, 'Webhook', 'webhook')

export const sourceFileSchema = (): Record<string, unknown> => named(newSource, 'Source', 'source')
