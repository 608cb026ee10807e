import { z } from 'zod'
import { directions } from '../sorts.ts'

/** A bounded piece of a list; `next` is what to give as `after` for the following one, and null at the end. */
export const pageOf = <T extends z.ZodType>(item: T) => z.object({ items: z.array(item), next: z.string().nullable() })

export const pageQuery = {
  limit: z.coerce.number().int().min(1).max(200).default(50),
  after: z
    .string()
    .regex(/^\d{1,16}$/, 'is not a place in this list')
    .optional()
    .describe('The `next` of the page before.'),
}

/** For a list that can be put in order by any of its columns: a place in it says more than a number. */
export const sortedPageQuery = {
  ...pageQuery,
  after: z
    .string()
    .regex(/^[\w-]{1,1500}$/, 'is not a place in this list')
    .optional()
    .describe('The `next` of the page before, in the same order.'),
  direction: z
    .enum(directions)
    .optional()
    .describe(
      'Which way; names go up and times and counts go down unless it is said. What has no value comes last either way.',
    ),
}

/** For a list in the order of its names: a page goes on after a name. */
export const namedPageQuery = {
  ...pageQuery,
  after: z
    .string()
    .regex(/^[\w-]{1,200}$/, 'is not a place in this list')
    .optional()
    .describe('The `next` of the page before.'),
}

export const environmentQuery = {
  environment: z
    .enum(['development', 'production'])
    .optional()
    .describe('Needed when signed in to the console; a key brings its own.'),
}

export type Page<T> = { readonly items: readonly T[]; readonly next: string | null }
