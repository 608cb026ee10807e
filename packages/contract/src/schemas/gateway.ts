import { platforms } from '@zbell/core'
import { z } from 'zod'
import { content } from './content.ts'
import { credentialKinds } from './credential.ts'
import { uuid } from './text.ts'

export const gateway = z
  .object({
    platform: z.enum(platforms),
    profile: z.string().nullable().describe('Null while the configuration names none; the web needs none.'),
    origin: z.string().nullable().describe('Where it is in this environment; each browser brings its own.'),
    asksFor: z.enum(credentialKinds).nullable(),
    bodyBytes: z.int().nullable(),
    outdatedFrom: z.string().nullable().describe('From this day on the platform no longer speaks so.'),
  })
  .meta({ id: 'Gateway' })

export const lintRequest = z.strictObject({ text: z.string().max(200_000) })
export const linted = z
  .object({ faults: z.array(z.object({ line: z.int(), column: z.int(), says: z.string() })) })
  .meta({ id: 'LintedProfile' })

export const trialRequest = z.strictObject({
  device: uuid.optional().describe('For which device; one that cannot exist when left out.'),
  content: content.partial({ title: true }).default({}),
  send: z.boolean().default(false).describe('Send it, and tell what came back.'),
})

const headers = z.record(z.string(), z.string())
export const trial = z
  .object({
    request: z.object({
      method: z.string(),
      url: z.string(),
      headers: headers.describe('What says who asks is masked.'),
      body: z.string().describe('For the web as it is before it is encrypted.'),
      bodyBytes: z.int(),
    }),
    answer: z.object({ status: z.int(), headers, body: z.string(), outcome: z.string(), says: z.string() }).nullable(),
  })
  .meta({ id: 'GatewayTrial' })

export type Gateway = z.infer<typeof gateway>
export type GatewayTrial = z.infer<typeof trial>
