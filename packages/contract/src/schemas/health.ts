import { environments, platforms, timedSteps } from '@zbell/core'
import { z } from 'zod'
import { deliveryState } from './delivery.ts'
import { userRefusals } from './device.ts'
import { instant, uuid } from './text.ts'

/** How one way to a gateway does, as one process sees it. */
export const gatewayHealth = z
  .object({
    environment: z.enum(environments),
    platform: z.enum(platforms),
    rehearsal: z.boolean().describe('It leads to virtual handsets.'),
    gateway: z.string().nullable().describe('Its origin; null for the web, where each device names its own.'),
    credential: z.string().nullable(),
    state: z
      .enum(['open', 'halted', 'resting'])
      .describe('`halted`: the credential is refused. `resting`: it gives no answer, and is asked again then.'),
    restsUntil: instant.nullable(),
    inFlight: z.int().describe('Requests on their way.'),
    inFlightLimit: z.int().describe('As many as it takes well, as far as was learned.'),
    answers: z
      .record(z.string(), z.int())
      .describe('How many of each kind in the last five minutes: accepted, busy, unavailable, token-gone, refused.'),
    medianMs: z.number().nullable(),
    p99Ms: z.number().nullable(),
  })
  .meta({ id: 'GatewayHealth' })

export const health = z
  .object({
    troubles: z
      .array(z.object({ detail: z.string(), remedy: z.string() }))
      .describe('What is wrong now and what to do about each, worst first; empty when all is well.'),
    databaseMs: z.number().describe('How long the database took to answer.'),
    processes: z.array(
      z.object({
        id: uuid,
        host: z.string(),
        pid: z.int(),
        does: z.enum(['everything', 'http', 'worker', 'clock']),
        startedAt: instant,
        seenAt: instant,
        memoryMb: z.number(),
        gateways: z.array(gatewayHealth).describe('The ways of this app that are open in this process.'),
      }),
    ),
    jobs: z
      .array(
        z.object({
          name: z.string(),
          everySeconds: z.int(),
          runBy: z.string().nullable().describe('The process that ran it last, or runs it now.'),
          startedAt: instant.nullable(),
          finishedAt: instant.nullable(),
          durationMs: z.int().nullable(),
          failures: z.int().describe('How often it has failed in a row.'),
          error: z.string().nullable(),
          lateSeconds: z.int().describe('How long ago it should have run; 0 when it is in time.'),
        }),
      )
      .describe('What is done in the background. Of several processes one does each.'),
    queue: z
      .object({
        due: z.int().describe('Devices whose turn has come.'),
        later: z.int().describe('Devices that wait for another try, or for their time in a spread.'),
        paused: z.int(),
        oldestDueAt: instant.nullable(),
      })
      .describe('This app’s, in this environment.'),
    userRefusals,
    devicesPerSecond: z.int().nullable().describe('The recent pace; null when too little was sent to say.'),
  })
  .meta({ id: 'Health' })

const counts = z.partialRecord(deliveryState, z.int())

export const day = z
  .object({
    day: z.iso.date().describe('In UTC.'),
    counts: counts.describe('How many deliveries came to each state on this day.'),
    platforms: z.partialRecord(z.enum(platforms), counts),
    reasons: z.array(z.object({ code: z.string(), detail: z.string(), remedy: z.string(), count: z.int() })),
    steps: z
      .array(
        z.object({
          step: z.enum(timedSteps),
          count: z.int(),
          medianMs: z.number(),
          p90Ms: z.number(),
          p99Ms: z.number(),
        }),
      )
      .describe(
        'How long each step took: from the sending until the gateway accepted it, until it arrived, was shown, was opened. To within a fifth.',
      ),
  })
  .meta({ id: 'Day' })

export type GatewayHealth = z.infer<typeof gatewayHealth>
export type Health = z.infer<typeof health>
export type Day = z.infer<typeof day>
