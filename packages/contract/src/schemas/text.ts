import { textFault } from '@zbell/core'
import { z } from 'zod'

/** Text that can stand on a screen: no control characters, no broken surrogates, `max` UTF-16 units at most. */
export const plainText = (max: number) =>
  z
    .string()
    .max(max, `has more than ${max.toLocaleString('en')} characters`)
    .superRefine((text, context) => {
      const fault = textFault(text)
      if (fault) context.addIssue({ code: 'custom', message: fault })
    })

type AnyJson = z.infer<ReturnType<typeof z.json>>
/** Any JSON value; one schema for all, so that documents have one name for it. */
export const anyJson: z.ZodType<AnyJson> = (z.unknown() as unknown as z.ZodType<AnyJson>).meta({
  id: 'Json',
  description: 'Any JSON value.',
})

export const instant = z.iso.datetime({ offset: true }).describe('RFC 3339')
export const uuid = z.string().regex(/^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$/, 'is not an id')
