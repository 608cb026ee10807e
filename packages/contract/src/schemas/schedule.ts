import { z } from 'zod'
import { liveName, notificationRequest } from './notification.ts'
import { anyJson, instant, uuid } from './text.ts'
import { graceSeconds, graceSecondsDefault, when } from './when.ts'

export const scheduleName = liveName

export const newSchedule = z.strictObject({
  when,
  notification: notificationRequest,
  graceSeconds: graceSeconds.default(graceSecondsDefault),
  paused: z.boolean().default(false),
})

export const schedule = z
  .object({
    name: z.string(),
    when,
    notification: anyJson.describe('As it is given to POST …/notifications, without when.'),
    shows: z.object({ title: z.string(), body: z.string().nullable() }),
    graceSeconds: z.int(),
    paused: z.boolean(),
    nextAt: instant.nullable().describe('When it rings next; null: it is over, or paused.'),
    skipped: z.array(instant).describe('Times ahead that were left out by hand, soonest first; 100 at most.'),
    version: z.int(),
    madeBy: z.string(),
    changedAt: instant,
  })
  .meta({ id: 'Schedule', description: 'Rings a notification at its times; each run is a notification of its own.' })

export const scheduleRun = z
  .object({
    dueAt: instant,
    state: z
      .enum(['rung', 'missed', 'skipped', 'failed'])
      .describe('`missed`: nothing ran at its time; `failed`: it could not be sent, and `says` why.'),
    says: z.string().nullable(),
    notification: uuid.nullable(),
    at: instant.describe('When that was settled.'),
  })
  .meta({ id: 'ScheduleRun' })

/** So many times are previewed at most. */
export const maxPreviewed = 250

export const previewRequest = z.strictObject({
  when,
  count: z.int().min(1).max(maxPreviewed).default(10),
  from: instant.optional().describe('Times from this instant on, the past included; now when left out.'),
})

export const preview = z.object({ times: z.array(instant) }).meta({ id: 'Preview' })

export const scheduleChange = z
  .strictObject({ paused: z.boolean() })
  .describe('A schedule that goes on rings at its next time; what came meanwhile is not made up for.')

export const cancelAllRequest = z.strictObject({
  count: z.int().min(0).describe('How many there are: when it is another number by now, nothing is cancelled.'),
})

export const upcoming = z
  .object({
    items: z.array(
      z.object({
        dueAt: instant,
        schedule: z.string().nullable(),
        notification: uuid.nullable().describe('A single notification that waits for its hour.'),
        name: z.string().nullable(),
        shows: z.object({ title: z.string(), body: z.string().nullable() }),
        readersHour: z
          .string()
          .nullable()
          .describe('The hour at which it rings by the clock of each reader; dueAt is the first of them.'),
        channel: z.string().nullable(),
        paused: z.boolean(),
        repeats: z.boolean(),
        reach: z
          .object({ devices: z.int(), people: z.int(), estimated: z.boolean() })
          .nullable()
          .describe('Whom it would ring as of now; null where that was not asked, or could not be counted in time.'),
      }),
    ),
    cut: z.boolean().describe('There is more than is listed.'),
  })
  .meta({ id: 'Upcoming' })

export type Schedule = z.infer<typeof schedule>
export type ScheduleRun = z.infer<typeof scheduleRun>
export type Upcoming = z.infer<typeof upcoming>
