import { capLimits, quietHoursLimits, weekdays } from '@zbell/core/policy'
import { z } from 'zod'
import { channelName } from './channel.ts'
import { urgency } from './content.ts'
import { instant, plainText, uuid } from './text.ts'

const clock = z
  .string()
  .regex(/^([01]\d|2[0-3]):[0-5]\d$/, 'wants a time of day such as 22:00')
  .describe('By the reader’s clock.')

const then = z
  .enum(['wait', 'skip'])
  .describe('`wait`: it rings when they end, if it lives so long. `skip`: it is left out.')

const channels = z
  .array(channelName)
  .min(1)
  .max(50)
  .optional()
  .describe('Only for these channels; for all when left out.')

const days = z
  .array(z.enum(weekdays))
  .min(1)
  .max(7)
  .optional()
  .describe('The days on which they begin (RFC 5545 §3.3.10); every day when left out.')

const window = z.strictObject({
  days,
  from: clock,
  to: clock.describe('Of the next day where it is not later than `from`.'),
  then,
})

export const quietWindow = window.extend({
  channels,
  belowUrgency: urgency
    .nullable()
    .optional()
    .describe('Only for what is less urgent than this; `high` when left out, null for however urgent.'),
})

export const quietHours = z
  .array(quietWindow)
  .max(quietHoursLimits.windows, `has more than ${quietHoursLimits.windows} windows`)
  .describe('Hours of each reader’s clock in which nothing rings.')

/** A person’s own: they hold for all but what is urgent. */
export const ownQuietHours = z
  .array(window.extend({ then: then.default('wait') }))
  .max(quietHoursLimits.windows, `has more than ${quietHoursLimits.windows} windows`)

export const ownQuietHoursSetting = z
  .strictObject({ quietHours: ownQuietHours })
  .meta({ id: 'OwnQuietHours', description: 'A person’s own quiet hours, beside the app’s; the stricter hold.' })

export const cap = z.strictObject({
  name: channelName.describe('By this it is told in reviews and by Why.'),
  most: z.int().min(1).max(capLimits.most, `wants ${capLimits.most} at most`),
  hours: z.int().min(1).max(capLimits.hours, `wants ${capLimits.hours} hours at most`),
  channels,
  belowUrgency: urgency.nullable().optional().describe('Only for what is less urgent than this.'),
})

export const caps = z
  .array(cap)
  .max(capLimits.caps, `has more than ${capLimits.caps} caps`)
  .refine((all) => new Set(all.map(({ name }) => name)).size === all.length, 'has two of one name')
  .describe('At most so many notifications in so many hours to one person, on all of their devices together.')

export const stopRequest = z.strictObject({ reason: plainText(200).min(1).describe('Told to whoever looks.') })

const stopped = z.object({ reason: z.string(), stoppedBy: z.string(), stoppedAt: instant })

export const stop = z
  .object({
    stopped: stopped.nullable().describe('Null: the app sends.'),
    waiting: z
      .array(
        z.object({
          notification: uuid,
          name: z.string().nullable(),
          title: z.string(),
          sentBy: z.string(),
          devices: z.int(),
        }),
      )
      .describe('What would ring by now, oldest first, 200 at most.'),
  })
  .meta({ id: 'Stop' })

export const startRequest = z.strictObject({
  ring: z
    .union([z.enum(['all', 'none']), z.array(uuid).max(200)])
    .describe('What of that which waits is still to ring; what is not is cancelled. What is due later is not touched.'),
})

export const feed = z
  .object({ madeBy: z.string().nullable(), madeAt: instant.nullable().describe('Null: there is none.') })
  .meta({ id: 'Feed' })

export const madeFeed = z
  .object({ url: z.string().describe('Answered this once: whoever has it reads what is upcoming.') })
  .meta({ id: 'MadeFeed' })

export type QuietHours = z.infer<typeof quietHours>
export type OwnQuietHours = z.input<typeof ownQuietHoursSetting>
export type Caps = z.infer<typeof caps>
export type Stop = z.infer<typeof stop>
