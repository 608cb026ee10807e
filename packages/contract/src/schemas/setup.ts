import { environments, platforms, setupActions, setupStates, setupSteps } from '@zbell/core'
import { z } from 'zod'
import { userRefusals } from './device.ts'
import { instant, uuid } from './text.ts'

const step = z.object({
  step: z.enum(setupSteps),
  state: z
    .enum(setupStates)
    .describe('`rehearsed`: with virtual handsets; a platform’s own devices are still to come.'),
  detail: z.string(),
  remedy: z.string().nullable(),
  action: z.enum(setupActions).nullable(),
  at: instant.nullable(),
})

export const setup = z
  .object({
    app: z.string(),
    environment: z.enum(environments),
    handsets: z.boolean().describe('Virtual handsets can be switched on here, to rehearse without a credential.'),
    userRefusals,
    platforms: z.array(
      z.object({
        platform: z.enum(platforms),
        ready: z.boolean(),
        next: z.enum(setupSteps).nullable(),
        steps: z.array(step),
        credential: uuid.nullable().describe('The one in use.'),
        device: uuid
          .nullable()
          .describe('The device that registered last, to be rung; a virtual handset’s when there is no other.'),
      }),
    ),
  })
  .meta({ id: 'Setup', description: 'How far each platform is on its way from nothing to a ring.' })

export type Setup = z.infer<typeof setup>
