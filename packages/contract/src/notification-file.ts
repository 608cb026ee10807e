import { z } from 'zod'
import { notificationRequest } from './schemas/notification.ts'
import { newTemplate } from './schemas/template.ts'

const said = (type: z.ZodType, title: string): Record<string, unknown> => ({
  ...z.toJSONSchema(type, { io: 'input', unrepresentable: 'any' }),
  title,
})

/** A notification in a file, as JSON Schema 2020-12, so that an editor completes and checks it while it is written. */
export const notificationFileSchema = (): Record<string, unknown> => {
  const schema = said(notificationRequest, 'Notification') as { required?: string[] }
  // Whom it is for can be said when it is sent.
  return { ...schema, required: (schema.required ?? []).filter((name) => name !== 'to') }
}

export const templateFileSchema = (): Record<string, unknown> => said(newTemplate, 'Template')
