import { contentLimits, dataFault, modes, urgencies } from '@zbell/core'
import { z } from 'zod'
import { plainText } from './text.ts'

const utf8 = new TextEncoder()

const navigate = plainText(contentLimits.navigateChars).refine(
  (text) =>
    /^\/(?!\/)/.test(text)
      ? true
      : URL.canParse(text) && /^[a-z][a-z0-9+.-]*:/.test(text) && !/^(javascript|data|vbscript):/i.test(text),
  'wants an absolute URL, or a path within the app that starts with one /',
)

/** Looked at before it is copied: a copy would lose a name such as `__proto__` without a word. */
const data = z
  .unknown()
  .superRefine((value, context) => {
    const fault = dataFault(value, contentLimits.dataDepth)
    if (fault) context.addIssue({ code: 'custom', message: fault.says, path: [...fault.path], continue: false })
    const bytes = utf8.encode(JSON.stringify(value)).length
    if (bytes > contentLimits.dataBytes) {
      context.addIssue({
        code: 'custom',
        message: `has ${bytes} bytes of JSON; ${contentLimits.dataBytes} fit`,
        continue: false,
      })
    }
  })
  .pipe(z.record(z.string(), z.json()))
  .meta({
    type: 'object',
    description: 'Anything that the app wants to know; at most 3,000 bytes of JSON, 8 levels deep.',
  })

export const content = z
  .strictObject({
    title: plainText(contentLimits.titleChars).describe('The first line.'),
    body: plainText(contentLimits.bodyChars).optional().describe('The text below the title.'),
    navigate: navigate.optional().describe('Where a tap leads.'),
    data: data.optional(),
    tag: z
      .string()
      .regex(/^[A-Za-z0-9_-]{1,32}$/, 'wants 1 to 32 letters, digits, hyphens or underscores')
      .optional()
      .describe('A newer notification with the same tag takes the older one’s place.'),
  })
  .meta({ id: 'Content', description: 'What a notification says.' })

export const urgency = z.enum(urgencies).describe('RFC 8030 §5.3')
export const mode = z.enum(modes).describe('`wake` shows nothing: the app is woken to fetch something.')
