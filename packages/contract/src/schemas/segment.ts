import { attributeTypes } from '@zbell/core'
import { z } from 'zod'
import { userName } from './device.ts'
import { instant, plainText, uuid } from './text.ts'

/** So long a rule may be, in UTF-16 units; what it may be made of is said in its documentation. */
const ruleChars = 4_000

export const segmentName = z
  .string()
  .regex(/^[a-z0-9][a-z0-9._-]{0,63}$/, 'wants up to 64 small letters, digits, dots, hyphens and underscores')

export const rule = z
  .string()
  .max(ruleChars, `has more than ${ruleChars.toLocaleString('en')} characters`)
  .describe('A condition in CEL, such as user.pass == "season" && follows("route-4").')

export const newSegment = z.strictObject({
  rule,
  note: plainText(200).nullable().default(null).describe('What it is for, for people.'),
})

export const segment = z
  .object({
    name: z.string(),
    version: z.int(),
    rule: z.string(),
    note: z.string().nullable(),
    madeBy: z.string(),
    madeAt: instant,
  })
  .meta({
    id: 'Segment',
    description: 'A rule with a name: whoever it holds for belongs. Each change is a version of its own.',
  })

export const ruleRequest = z.strictObject({
  rule,
  exact: z.boolean().default(false).describe('Count all, however long that takes; otherwise many are estimated.'),
})

const ruleWarnings = z
  .array(z.object({ line: z.int(), column: z.int(), says: z.string() }))
  .describe('What in the rule can never be, such as a topic that nobody has declared or joined.')

/** A segment as it was saved now. */
export const savedSegment = segment.extend({ warnings: ruleWarnings }).meta({ id: 'SavedSegment' })

export const segmentCount = z
  .object({
    people: z.int().describe('Users who have a name; a device that is nobody’s is not among them.'),
    devices: z.int(),
    reachable: z.int().describe('Devices that a notification would ring.'),
    perPlatform: z.object({ ios: z.int(), android: z.int(), web: z.int() }).describe('Devices.'),
    estimated: z.boolean().describe('The numbers come from a sample.'),
    examples: z.array(z.object({ user: z.string().nullable(), device: uuid })).describe('Five of them at most.'),
    warnings: ruleWarnings,
  })
  .meta({ id: 'SegmentCount' })

export const ruleWords = z
  .object({
    attributes: z.array(
      z.object({
        name: z.string(),
        type: z.enum(attributeTypes),
        values: z.array(z.string()).describe('Texts that several people have, the most frequent first; 20 at most.'),
      }),
    ),
    happened: z.array(z.string()).describe('Types of what happened to people lately.'),
    topics: z.array(z.string()).describe('The first 200 by name.'),
    segments: z.array(z.string()),
  })
  .meta({ id: 'RuleWords' })

export const segmentMember = z
  .object({ user: z.string().nullable(), device: uuid })
  .meta({ id: 'SegmentMember', description: 'A device that belongs, and whose it is.' })

export const explainRequest = z
  .strictObject({
    rule: rule.optional(),
    segment: segmentName.optional(),
    user: userName.optional(),
    device: uuid.optional(),
  })
  .refine((given) => (given.rule === undefined) !== (given.segment === undefined), {
    path: ['rule'],
    message: 'wants either a rule or a segment',
  })
  .refine((given) => (given.user === undefined) !== (given.device === undefined), {
    path: ['user'],
    message: 'wants either a user or a device',
  })

const verdict = z.boolean().nullable().describe('Null: something that is needed is not known.')

export const ruleExplanation = z
  .object({
    belongs: verdict,
    device: uuid.nullable().describe('The device that was looked at: of a user the one that belongs, if any does.'),
    parts: z.array(
      z.object({
        text: z.string().describe('A clause of the rule, with its sign.'),
        value: z.string().nullable().describe('What is known of what it asks about.'),
        verdict,
        depth: z
          .int()
          .describe(
            '0; of what is nested in a clause, such as the rule of a segment that it names, one more than of that clause.',
          ),
      }),
    ),
  })
  .meta({ id: 'RuleExplanation' })

export type Segment = z.infer<typeof segment>
export type SegmentCount = z.infer<typeof segmentCount>
export type RuleWords = z.infer<typeof ruleWords>
export type SegmentMember = z.infer<typeof segmentMember>
export type RuleExplanation = z.infer<typeof ruleExplanation>
