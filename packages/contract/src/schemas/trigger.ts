import { maxTtlSeconds } from '@zbell/core'
import { triggerLimits } from '@zbell/core/triggers'
import { z } from 'zod'
import { channelName } from './channel.ts'
import { mode, urgency, valueName, writing } from './content.ts'
import { review } from './notification.ts'
import { ruleExplanation } from './segment.ts'
import { templateReference } from './template.ts'
import { anyJson, instant, uuid } from './text.ts'

const expression = z.string().min(1).max(4_000).describe('CEL, over row, before, event, gone and now.')
const seconds = z.int().min(0).max(triggerLimits.seconds)

const to = z
  .strictObject({
    any: z.array(expression).min(1).max(triggerLimits.references).optional(),
    all: z.array(expression).min(1).max(triggerLimits.references).optional(),
    none: z.array(expression).min(1).max(triggerLimits.references).optional(),
  })
  .describe("For whom: each reference is an expression that makes a text, such as 'topic:route-' + string(row.route).")

const caseParts = {
  when: expression.optional().describe('Whether it rings.'),
  to: to.optional(),
  template: templateReference.optional(),
  content: writing.optional().describe('In place of a template.'),
  values: z
    .record(valueName, expression)
    .refine((all) => Object.keys(all).length <= triggerLimits.values, `has more than ${triggerLimits.values} values`)
    .optional(),
}

export const triggerName = z
  .string()
  .regex(/^[a-z0-9][a-z0-9._-]{0,63}$/, 'wants up to 64 small letters, digits, dots, hyphens and underscores')

export const newTrigger = z.strictObject({
  source: triggerName.describe('A source by its name; `occurrences` needs none.'),
  types: z.array(z.string().max(200)).min(1).max(50).optional().describe('Of occurrences, only those of these types.'),
  devices: z
    .boolean()
    .optional()
    .describe(
      'Of occurrences, also those that devices report: `event.by` is `device`, `event.user` whose device it is, `event.proved` whether that was proved. Without it only those of the server and of sources.',
    ),
  ...caseParts,
  cases: z
    .array(z.strictObject(caseParts))
    .min(1)
    .max(triggerLimits.cases)
    .optional()
    .describe('The first whose `when` holds counts; what it leaves out is the trigger’s.'),
  key: expression.optional().describe('One firing for each key; that of the row or event when left out.'),
  notMoreOftenThan: seconds.optional().describe('At most one firing for each key in so many seconds.'),
  after: seconds.optional().describe('It waits so long before it rings.'),
  unless: expression.optional().describe('Asked when it has waited: whether it is not needed any more.'),
  late: z
    .enum(['ring', 'skip'])
    .optional()
    .describe('What becomes of that which a source finds after it was away for long.'),
  lateAfterSeconds: seconds.optional(),
  options: z
    .strictObject({
      urgency: urgency.optional(),
      mode: mode.optional(),
      ttlSeconds: z.int().min(0).max(maxTtlSeconds).optional(),
      channel: channelName.optional(),
      tag: expression.optional(),
    })
    .optional(),
  enabled: z.boolean().optional().describe('Left out: as it is by now; a new one is off until it is enabled.'),
})

export const trigger = z
  .object({
    name: z.string(),
    version: z.int(),
    definition: anyJson.describe('As it was saved.'),
    enabled: z.boolean(),
    pausedBecause: z
      .string()
      .nullable()
      .describe('It was stopped as a runaway; enabling it lets it go on, with a count that begins anew.'),
    maxAnHour: z
      .int()
      .describe(
        'With more firings within an hour it is paused as a runaway: ten times its busiest hour before, and at least runawayFloor of the settings.',
      ),
    unmatched: z.int().describe('Rows and events for which no case held; the first ten of each hour are in the log.'),
    madeBy: z.string(),
    changedAt: instant,
  })
  .meta({ id: 'Trigger', description: 'Rings without a person: for a row or an event for which a condition holds.' })

export const triggerChange = z.strictObject({ enabled: z.boolean() })

const record = z.record(z.string(), anyJson)

const given = {
  event: record.optional(),
  row: record.optional(),
  before: record.optional().describe('The row as it was; one that is new without it.'),
  take: z
    .boolean()
    .optional()
    .describe('What the row leaves out is read from the source, where a row with its key is there.'),
  gone: z.boolean().optional().describe('The row is the last state of one that is gone.'),
}
const isOne = ({ event, row }: { event?: unknown; row?: unknown }) => (event === undefined) !== (row === undefined)

export const tryRequest = z.strictObject(given).refine(isOne, 'wants an event or a row')

export const ringRequest = z
  .strictObject({
    ...given,
    only: z
      .string()
      .regex(/^(?:user|device|token):/, 'wants user:NAME, device:ID or token:…')
      .describe('Whom it rings, in place of those for whom the trigger is.'),
  })
  .refine(isOne, 'wants an event or a row')

export const rangOnly = z
  .object({
    is: z.enum(['fires', 'no-case', 'fault']),
    says: z.string().nullable(),
    notification: uuid.nullable(),
  })
  .meta({ id: 'RangOnly' })

export const tried = z
  .object({
    is: z.enum(['fires', 'no-case', 'fault']),
    says: z.string().nullable(),
    caseNo: z.int().nullable().describe('Which case holds, from 0.'),
    key: z.string().nullable(),
    cases: z
      .array(z.object({ when: z.string(), holds: z.boolean(), parts: ruleExplanation.shape.parts }))
      .describe('What was asked, clause by clause, up to the first case that holds.'),
    review: review.nullable().describe('Whom it would reach, and what they would get.'),
    warnings: z
      .array(z.object({ pointer: z.string(), detail: z.string() }))
      .describe('What it may do that was not meant.'),
  })
  .meta({ id: 'TriedTrigger' })

export const firing = z
  .object({
    no: z.int(),
    version: z.int(),
    key: z.string(),
    given: anyJson.describe('The row or the event.'),
    state: z
      .enum(['rung', 'waiting', 'not-needed', 'throttled', 'nobody', 'no-case', 'fault', 'dropped'])
      .describe(
        '`not-needed`: its `unless` held when it had waited. `throttled`: notMoreOftenThan, or 60 times for one key within an hour. `nobody`: nobody in its target has a device. `dropped`: the trigger was paused as a runaway, or switched off while the firing waited.',
      ),
    says: z.string().nullable(),
    caseNo: z.int().nullable(),
    notification: uuid.nullable(),
    at: instant,
    dueAt: instant.nullable().describe('Until when it waits.'),
  })
  .meta({ id: 'Firing' })

export type Trigger = z.infer<typeof trigger>
export type Firing = z.infer<typeof firing>
export type NewTrigger = z.input<typeof newTrigger>
