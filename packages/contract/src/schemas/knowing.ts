import { platforms } from '@zbell/core'
import { z } from 'zod'
import { content } from './content.ts'
import { delivery, deliveryState } from './delivery.ts'
import { ruleExplanation } from './segment.ts'
import { instant, uuid } from './text.ts'

/** How a notification's deliveries went over time. */
export const progress = z
  .object({
    stepSeconds: z.int().describe('How long each step lasts.'),
    steps: z
      .array(
        z.object({
          at: instant.describe('When the step begins.'),
          counts: z.partialRecord(deliveryState, z.int()).describe('How many came to each state within it.'),
        }),
      )
      .describe('Oldest first; steps in which nothing happened are left out.'),
  })
  .meta({ id: 'Progress' })

const step = z.object({
  says: z.string(),
  verdict: z.enum(['good', 'stops', 'unsure', 'note']).describe('`stops`: the way ends here.'),
  at: instant.nullable(),
})

/** The whole way of one notification to one person or device, with what is known of each step. */
export const explanation = z
  .object({
    verdict: z.string().describe('In one sentence.'),
    seen: z.boolean(),
    about: z.array(step).describe('The notification and its target.'),
    devices: z.array(
      z.object({
        device: uuid,
        platform: z.enum(platforms),
        model: z.string().nullable(),
        verdict: z.string(),
        steps: z.array(step),
        rules: z
          .array(
            z.object({
              segment: z
                .string()
                .nullable()
                .describe('By name and version, as in `commuters@3`; null: the rule of the target.'),
              rule: z.string(),
              ...ruleExplanation.pick({ belongs: true, parts: true }).shape,
              changed: z
                .array(z.string())
                .describe(
                  'Attributes that the rule asks about and that have changed since: what they were is not kept.',
                ),
            }),
          )
          .describe('The rules that the target names, as of the moment at which it was sent.'),
        content: content
          .nullable()
          .describe(
            'What it would show as of now: its language, or what is known of its person, may have changed since.',
          ),
        delivery: delivery.nullable(),
      }),
    ),
    likely: z.array(z.string()).describe('Where the trail ends: what is most likely, and then what else.'),
  })
  .meta({ id: 'Explanation' })

export type Progress = z.infer<typeof progress>
export type Explanation = z.infer<typeof explanation>
export type ExplanationStep = z.infer<typeof step>
