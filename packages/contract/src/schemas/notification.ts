import {
  defaultTtlSeconds,
  maxSpreadSeconds,
  maxTtlSeconds,
  parseReference,
  platforms,
  referencesOf,
  targetLimits,
} from '@zbell/core'
import { z } from 'zod'
import { neededFault } from '../problems/problem.ts'
import { content, mode, urgency, values, writing } from './content.ts'
import { deliveryState } from './delivery.ts'
import { rule } from './segment.ts'
import { templateReference } from './template.ts'
import { instant, uuid } from './text.ts'
import { graceSeconds, when } from './when.ts'

const reference = z.string().meta({
  id: 'Reference',
  description: 'user:NAME, device:ID, token:TOKEN, topic:NAME, segment:NAME, reached:NOTIFICATION or everyone',
  examples: ['user:ada'],
})

/** So many that are none are told of: of ten thousand nobody reads more. */
const maxTold = 20

const references = z
  .array(reference)
  .min(1)
  .max(targetLimits.references)
  .superRefine((all, context) => {
    let told = 0
    for (let n = 0; n < all.length && told < maxTold; n++) {
      const read = parseReference(all[n]!)
      if (typeof read !== 'string') continue
      told++
      context.addIssue({ code: 'custom', message: read, path: [n] })
    }
  })

export const target = z
  .strictObject({
    any: references.optional().describe('Every device that at least one of these names.'),
    all: references
      .max(targetLimits.allReferences, `has more than ${targetLimits.allReferences} references`)
      .optional()
      .describe('Only those that each of these names.'),
    none: references.optional().describe('Not those that one of these names.'),
    rule: rule.optional().describe('Only those for which this condition in CEL holds.'),
    platforms: z.array(z.enum(platforms)).min(1).max(platforms.length).optional().describe('Only these platforms.'),
  })
  .refine((given) => given.any !== undefined || given.all !== undefined || given.rule !== undefined, {
    message: 'wants any, all or a rule: who is meant at all',
    params: { fault: neededFault },
  })
  .refine((given) => referencesOf(given).length <= targetLimits.references, {
    message: `has more than ${targetLimits.references.toLocaleString('en')} references; make a topic of them`,
  })
  .meta({ id: 'Target', description: 'Each device once, however many references name it.' })

export const liveName = z
  .string()
  .regex(/^[a-z0-9][a-z0-9._-]{0,63}$/, 'wants up to 64 small letters, digits, dots, hyphens and underscores')
  .describe('A name of your own, by which it is found and stopped; only one live notification of an app has it.')

export const notificationRequest = z
  .strictObject({
    to: target,
    content: writing.default({}),
    template: templateReference.optional().describe('In place of content: a saved template, filled with `values`.'),
    values: values.optional().describe('Values that the texts name; a person’s attributes fill the rest.'),
    fallbacks: values.optional().describe('What stands in for a value that a person does not have.'),
    urgency: urgency.optional().describe('The channel’s when left out, else `normal`.'),
    ttlSeconds: z
      .int()
      .min(0)
      .max(maxTtlSeconds)
      .optional()
      .describe(`The channel’s when left out, else ${defaultTtlSeconds}.`),
    mode: mode.default('show'),
    name: liveName.optional(),
    when: when
      .optional()
      .describe('Rings then and not at once; the target is found then. With repeat it becomes a schedule.'),
    graceSeconds: graceSeconds.optional(),
    paused: z.boolean().default(false).describe('It waits, and can be edited, until somebody lets it go on.'),
    spreadSeconds: z
      .int()
      .min(0)
      .max(maxSpreadSeconds)
      .default(0)
      .describe('Spreads the sending evenly over so long, for what stands behind the place that it leads to.'),
  })
  .superRefine((request, context) => {
    if (request.template !== undefined && Object.keys(request.content).length > 0)
      context.addIssue({ code: 'custom', path: ['content'], message: 'comes from the template; leave it out' })
    if (request.template === undefined && request.mode === 'show' && !titled(request.content)) {
      context.addIssue({
        code: 'custom',
        path: ['content', 'title'],
        message: 'is needed: it is the first line that is shown',
        params: { fault: neededFault },
      })
    }
    if (request.when?.repeat !== undefined && request.name === undefined)
      context.addIssue({
        code: 'custom',
        path: ['name'],
        message: 'is needed: what rings again and again is found and stopped by it',
        params: { fault: neededFault },
      })
    if (request.mode !== 'wake' && request.content.commands !== undefined)
      context.addIssue({ code: 'custom', path: ['content', 'commands'], message: 'belongs to the mode wake' })
    if (request.spreadSeconds > (request.ttlSeconds ?? defaultTtlSeconds)) {
      context.addIssue({
        code: 'custom',
        path: ['spreadSeconds'],
        message: 'is longer than the notification lives; give it a longer ttlSeconds',
      })
    }
  })
  .transform((request) => ({ ...request, content: { ...request.content, title: request.content.title ?? '' } }))

/** A title for all, or one for each platform. */
const titled = ({ title, perPlatform }: z.output<typeof writing>): boolean =>
  Boolean(title) || platforms.every((platform) => perPlatform?.[platform]?.title)

const count = z.int().min(0)

export const totals = z
  .object({
    expanded: count.describe('Devices found so far; the states below add up to it.'),
    queued: count,
    accepted: count,
    received: count,
    shown: count,
    dismissed: count,
    opened: count,
    skipped: count,
    refused: count,
    expired: count,
    withdrawn: count,
  })
  .meta({ id: 'Totals', description: 'How many deliveries are in each state now.' })

export const notificationState = z
  .enum(['scheduled', 'expanding', 'sending', 'paused', 'stopped', 'finished', 'cancelled'])
  .describe(
    '`scheduled`: it waits for its hour. `stopped`: its app is stopped, and it waits for it to be started. `finished` and `cancelled`: nothing is left to do for the service; receipts may still come.',
  )

export const reasonCount = z.object({ reason: z.string(), count, detail: z.string(), remedy: z.string() })

export const notification = z
  .object({
    id: uuid,
    revision: z.int().describe('Grows with each change: of two answers, the one with the larger revision is newer.'),
    app: z.string(),
    environment: z.enum(['development', 'production']),
    state: notificationState,
    name: z.string().nullable(),
    to: target,
    content: writing,
    template: z.string().nullable().describe('The template and version that it was made from.'),
    shows: z
      .object({ title: z.string(), body: z.string().nullable() })
      .describe('About what it reads like: shared texts, with the sending’s own values.'),
    values,
    fallbacks: values,
    channel: z.string().nullable().describe('The kind of notification that it is.'),
    urgency,
    ttlSeconds: z.int(),
    mode,
    spreadSeconds: z.int(),
    withdrawnAt: instant.nullable().describe('When devices were told to remove what they showed.'),
    sentBy: z.string(),
    createdAt: instant,
    expiresAt: instant,
    dueAt: instant.nullable().describe('When it rings or rang; null for one that was sent at once.'),
    missedAt: instant.nullable().describe('When it was seen that nothing had run at its time.'),
    readersHour: z
      .string()
      .nullable()
      .describe('The hour at which it rings by the clock of each reader; dueAt is the first of them.'),
    schedule: z.string().nullable().describe('The schedule of which it is a run.'),
    finishedAt: instant.nullable(),
    totals,
    platforms: z.partialRecord(z.enum(platforms), z.partialRecord(deliveryState, count)),
    reasons: z.array(reasonCount).describe('Why deliveries ended where nobody saw them.'),
    quiet: z
      .object({ devices: count, until: instant })
      .nullable()
      .describe('Devices that wait for quiet hours to end, and when the first of them do.'),
  })
  .meta({ id: 'Notification' })

/** What can be changed before anything has gone; what is left out stays. */
export const notificationEdit = z
  .strictObject({
    content: writing.optional(),
    values: values.optional(),
    fallbacks: values.optional(),
    urgency: urgency.optional(),
  })
  .refine((given) => Object.keys(given).length > 0, 'wants something to change')

export const holdRequest = z.strictObject({
  hold: z
    .enum(['paused', 'none', 'cancelled'])
    .describe('`cancelled` is for good: what has not gone by then does not go.'),
})

export const accepted = z
  .object({
    id: uuid.describe('Of a schedule: of its first run, which is not there before.'),
    state: notificationState,
    createdAt: instant,
    expiresAt: instant,
    dueAt: instant.nullable().describe('When it rings, or rings first; null for one that is sent at once.'),
  })
  .meta({ id: 'AcceptedNotification' })

const platformCounts = z.object({ ios: count, android: count, web: count })

const sample = z.object({
  platform: z.enum(platforms),
  language: z.string().nullable(),
  user: z.string().nullable().describe('Whose it is, as they would get it; null where it stands for a language.'),
  content,
  bytes: z.int().describe('Of the message to the gateway, with a token of the usual length.'),
  limitBytes: z.int().nullable(),
})

/** What would happen: nothing is stored and nothing is sent. */
export const review = z
  .object({
    people: count.describe('How many people have at least one device that would be rung.'),
    devices: platformCounts.describe('How many devices would be rung.'),
    estimated: z
      .boolean()
      .describe(
        'Whether these numbers are estimated from a sample, to three digits: the target covers more than 50,000 devices or topic memberships.',
      ),
    leftOut: z.array(reasonCount).describe('Devices that the target names and that would not be rung, by reason.'),
    quiet: z
      .array(z.object({ until: instant, devices: count }))
      .describe('Devices that would wait for quiet hours to end, by when that is; they are among those that ring.'),
    caps: z
      .array(z.object({ cap: z.string(), people: count }))
      .describe('People who would not be rung, since they have got as many as a cap allows; left out above by device.'),
    person: z
      .object({
        user: z.string(),
        detail: z
          .string()
          .nullable()
          .describe('Why they get nothing at all; null where a device of theirs would ring.'),
        devices: z.array(
          z.object({
            device: uuid,
            platform: z.enum(platforms),
            model: z.string().nullable(),
            rings: z.boolean(),
            until: instant.nullable().describe('When quiet hours end, which it would wait for.'),
            reason: z
              .string()
              .nullable()
              .describe('Why it would not ring: `not-in-target`, or the reason it would end with.'),
            detail: z.string().nullable(),
            remedy: z.string().nullable(),
            sample: sample.nullable().describe('What it would show; null where a value is missing.'),
          }),
        ),
      })
      .nullable()
      .describe('What the person who was asked for with `user` would get on each device, or why not.'),
    samples: z
      .array(sample)
      .describe(
        'What readers of each platform and language would get; of the person who was asked for, on each device.',
      ),
    faults: z
      .array(z.object({ field: z.string(), says: z.string() }))
      .describe('What has to be fixed before it can be sent.'),
    listed: z.array(z.object({ device: uuid, user: z.string().nullable(), platform: z.enum(platforms) })),
    warnings: z.array(z.object({ platform: z.enum(platforms), field: z.string(), says: z.string() })),
    seconds: z.number().nullable().describe('How long it would take at the recent pace; null when that is not known.'),
  })
  .meta({ id: 'Review' })

export const reviewReader = z.object({
  user: z.string().max(targetLimits.userChars).optional().describe('Show what this person would get.'),
  language: z.string().max(35).optional().describe('Show it in this language.'),
  list: z.string().max(40).optional().describe('Name the devices that are left out for this reason, 200 at most.'),
  exact: z
    .enum(['true', 'false'])
    .optional()
    .describe('With `true` every device is counted, however many there are; that may take seconds.'),
})

export type Review = z.infer<typeof review>
export type Target = z.input<typeof target>
export type NotificationRequest = z.input<typeof notificationRequest>
export type Notification = z.infer<typeof notification>
export type Totals = z.infer<typeof totals>

/** A request as it was read: whatever was left out has its default. */
export type SettledRequest = z.output<typeof notificationRequest>
