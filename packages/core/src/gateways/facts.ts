import '../schema-words.ts'
import { z } from 'zod'

/** A gateway profile longer than this is refused before it is read. */
export const maxProfileCharacters = 64_000

export const factName = z.string().regex(/^[A-Za-z_]\w{0,39}$/, 'wants letters, digits and _, beginning with a letter')

/** Names and numbers of an account; nothing in them may end a line of a header, or mean another path. */
export const factValue = z
  .string()
  .min(1)
  .max(300)
  .regex(/^[^\p{C}\p{Zl}\p{Zp}]*$/u, 'may hold no line breaks and no control characters')
  .refine((value) => !/^\.{1,2}$/.test(value), 'may not be . or .., which would lead to another path')
