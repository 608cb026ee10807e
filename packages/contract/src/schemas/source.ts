import { sourceLimits } from '@zbell/core/triggers'
import { z } from 'zod'
import { segmentName } from './segment.ts'
import { anyJson, instant } from './text.ts'
import { triggerName } from './trigger.ts'

const column = z.string().min(1).max(64)
const columns = z.array(column).min(1).max(sourceLimits.columns)
const key = z.array(column).min(1).max(sourceLimits.keyColumns).describe('What names a row.')
const watch = columns.optional().describe('What counts as a change, and what the log shows; everything when left out.')
const mask = columns.optional().describe('What the log does not show.')
const everySeconds = z.int().min(1).max(sourceLimits.everySeconds).optional()
const ca = z.string().max(20_000).optional().describe('Certificates to trust for it, as PEM.')
const expression = z.string().min(1).max(4_000)
const url = z.string().min(1).max(2_000).optional()

const table = z
  .strictObject({
    kind: z.literal('table'),
    url: url.describe('mysql://…, mariadb://… or postgres://…; kept sealed. The one that is kept when left out.'),
    table: z.string().min(1).max(130).optional().describe('A table or a view, its schema before a dot.'),
    select: z.string().min(1).max(10_000).optional().describe('A statement in its place.'),
    by: z
      .enum(['cursor', 'comparison'])
      .describe('`cursor` reads what is new, `comparison` finds what is new, changed and gone.'),
    key,
    cursor: column.optional().describe('A column that only grows: a number or a time.'),
    overlapSeconds: z.int().min(0).max(sourceLimits.overlapSeconds).optional(),
    watch,
    mask,
    everySeconds,
    ca,
  })
  .refine(({ table: named, select }) => (named === undefined) !== (select === undefined), {
    path: ['table'],
    message: 'is needed, or select: one of the two',
  })
  .refine(({ by, cursor }) => (by === 'cursor') === (cursor !== undefined), {
    path: ['cursor'],
    message: 'belongs to by: cursor, which needs it',
  })
  .refine(({ by, overlapSeconds }) => by === 'cursor' || overlapSeconds === undefined, {
    path: ['overlapSeconds'],
    message: 'belongs to by: cursor',
  })

/** Visible characters, spaces and tabs (RFC 9110 §5.5); or the dots that stand for the value that is kept. */
const headerValue = z
  .string()
  .max(4_000)
  .regex(/^(?:[\t\x20-\x7e]*|•••)$/, 'has a character that no header may have')

const poll = z.strictObject({
  kind: z.literal('poll'),
  url: url.describe('An https address that answers JSON; kept sealed. The one that is kept when left out.'),
  headers: z
    .record(z.string().regex(/^[!#$%&'*+.^_`|~0-9A-Za-z-]{1,100}$/), headerValue)
    .refine((all) => Object.keys(all).length <= 20, 'has more than 20 headers')
    .optional()
    .describe('Kept sealed.'),
  rows: expression.describe('JSONata that picks the rows of an answer.'),
  key,
  watch,
  mask,
  everySeconds,
  ca,
})

const segment = z.strictObject({
  kind: z.literal('segment'),
  segment: segmentName.describe('Whoever enters or leaves it is a row.'),
  devices: z
    .boolean()
    .optional()
    .describe(
      'Whether what devices report and set counts as well; without it what they report does not, and a rule that reads what they may set is a fault.',
    ),
  everySeconds,
})

const header = z.string().regex(/^[!#$%&'*+.^_`|~0-9A-Za-z-]{1,100}$/, 'is no name of a header')

const incoming = z.strictObject({
  kind: z.literal('incoming'),
  verify: z.discriminatedUnion('by', [
    z.strictObject({ by: z.literal('secret'), header }),
    z.strictObject({
      by: z.literal('hmac-sha256'),
      header,
      prefix: z.string().max(40).optional().describe('What stands in front of the signature.'),
      encoding: z.enum(['hex', 'base64']).default('hex'),
    }),
    z.strictObject({ by: z.literal('standard-webhooks') }),
  ]),
  secrets: z
    .array(z.string().min(16).max(500))
    .min(1)
    .max(2)
    .optional()
    .describe('Any of them is believed; kept sealed. Those that are kept, or else a new one, when left out.'),
  occurrences: expression.describe('JSONata that makes occurrences of a body: an object with type, or several.'),
})

export const newSource = z.discriminatedUnion('kind', [table, poll, segment, incoming])

export const sourceName = triggerName.refine(
  (name) => name !== 'occurrences',
  'is another one than occurrences, which is there without having been made',
)

export const source = z
  .object({
    name: z.string(),
    version: z.int(),
    kind: z.enum(['table', 'poll', 'segment', 'incoming']),
    definition: anyJson.describe('As it was saved, without what is secret of it: saving that again changes nothing.'),
    address: z.string().nullable().describe('Where incoming webhooks are posted.'),
    secret: z.string().nullable().describe('Of incoming webhooks, in the answer in which it was made.'),
    polledAt: instant.nullable(),
    note: z.string().nullable().describe('What a look found that somebody should know.'),
    leftOut: z.string().nullable().describe('Rows that could not be taken.'),
    fault: z.string().nullable().describe('Why it cannot be read at the moment.'),
    faultSince: instant.nullable(),
    triggers: z.array(z.string()).describe('Who reads it.'),
    madeBy: z.string(),
    changedAt: instant,
  })
  .meta({ id: 'Source', description: 'What triggers read: a table, a polled answer, a segment, or what others post.' })

export const triedSource = z
  .object({
    is: z.enum(['fine', 'fault']),
    says: z.string().nullable(),
    columns: z.array(z.object({ name: z.string(), type: z.string() })),
    rows: z.array(anyJson).describe('The last three.'),
    came: z
      .array(
        z.object({
          at: instant,
          body: anyJson,
          makes: z
            .array(z.object({ type: z.string(), subject: z.string().nullable() }))
            .describe('The occurrences that its expression makes of it now.'),
          says: z.string().nullable().describe('Why it makes none.'),
        }),
      )
      .describe('Of an incoming source the last three bodies that were posted, newest first.'),
  })
  .meta({ id: 'TriedSource' })

export const incomingTaken = z.object({
  taken: z.int().describe('Occurrences that were made of it.'),
  known: z.int().describe('These had come before, by source and id.'),
})

export type Source = z.infer<typeof source>
export type NewSource = z.input<typeof newSource>
export type TriedSource = z.infer<typeof triedSource>
