import { type Declarations, declaredTypes, templateFaults, type Writing } from '@zbell/core'
import { z } from 'zod'
import { templateWriting, value, valueName } from './content.ts'
import { instant } from './text.ts'

const declares = z
  .record(
    valueName,
    z.strictObject({
      type: z.enum(declaredTypes),
      ofPerson: z.boolean().optional().describe('It is an attribute of the person who reads it.'),
      fallback: value.optional().describe('What stands in for it.'),
    }),
  )
  .describe('The values that the texts name.')

export const newTemplate = z
  .strictObject({ content: templateWriting, declares: declares.default({}) })
  .superRefine((given, context) => {
    for (const { name, says } of templateFaults(given.content as Writing, given.declares as Declarations))
      context.addIssue({ code: 'custom', message: says, path: ['declares', name] })
  })

export const template = z
  .object({
    name: z.string(),
    version: z.int(),
    content: templateWriting,
    declares,
    madeBy: z.string(),
    madeAt: instant,
  })
  .meta({
    id: 'Template',
    description: 'A notification with a name, to be filled in. Each change is a version of its own.',
  })

/** `delay`, or `delay@3` for a version that is not the newest. */
export const templateReference = z
  .string()
  .regex(/^[a-z0-9][a-z0-9._-]{0,63}(?:@[1-9]\d{0,8})?$/, 'wants a template’s name, such as delay or delay@3')

export type Template = z.infer<typeof template>

export type NewTemplate = z.input<typeof newTemplate>
