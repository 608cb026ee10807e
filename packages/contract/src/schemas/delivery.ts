import { appStates, deliveryStateNames, platforms, presentations } from '@zbell/core'
import { z } from 'zod'
import { instant, uuid } from './text.ts'

export const deliveryState = z.enum(deliveryStateNames as [(typeof deliveryStateNames)[number]])

export const delivery = z
  .object({
    device: uuid,
    user: z.string().nullable(),
    platform: z.enum(platforms),
    rehearsal: z.boolean().describe('It went to a virtual handset, not to a platform’s gateway.'),
    state: deliveryState,
    reason: z.object({ code: z.string(), detail: z.string(), remedy: z.string() }).nullable(),
    attempts: z.int().min(0),
    gatewayReference: z.string().nullable().describe('The gateway’s own id for what it accepted.'),
    appState: z.enum(appStates).nullable().describe('Where the app was when it arrived.'),
    became: z.enum(presentations).nullable().describe('What the device did with it.'),
    cap: z.string().nullable().describe('The cap that left its person out.'),
    waits: z
      .object({ reason: z.string(), detail: z.string(), until: instant })
      .nullable()
      .describe('Of one in the queue: what it waits for, and until when.'),
    action: z.string().nullable().describe('The action that was taken when it was opened.'),
    timeline: z
      .array(
        z.object({
          state: deliveryState,
          at: instant,
          notedAt: instant
            .nullable()
            .describe(
              'Where two clocks disagree: the moment by the one that noted this step, later than a step that followed.',
            ),
        }),
      )
      .describe('What happened, in the order in which it must have happened.'),
  })
  .meta({ id: 'Delivery', description: 'One notification for one device.' })

export type Delivery = z.infer<typeof delivery>
