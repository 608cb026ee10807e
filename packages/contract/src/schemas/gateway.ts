import { maxProfileCharacters, platforms } from '@zbell/core'
import { z } from 'zod'
import { content } from './content.ts'
import { credentialKinds } from './credential.ts'
import { instant, uuid } from './text.ts'

/** The text of a gateway profile, as a file has it. */
const profileText = z
  .string()
  .max(maxProfileCharacters, `has more than ${maxProfileCharacters.toLocaleString('en')} characters`)

export const profileStates = ['in-use', 'waiting', 'retired'] as const

export const gateway = z
  .object({
    platform: z.enum(platforms),
    profile: z.string().nullable().describe('Its name; null while there is none. The web needs none.'),
    version: z.int().nullable().describe('Of the app’s own; null for the one that the service’s configuration names.'),
    waiting: z.int().nullable().describe('The version that was in use before, or is to come.'),
    origin: z.string().nullable().describe('Where it is in this environment; each browser brings its own.'),
    asksFor: z.enum(credentialKinds).nullable(),
    bodyBytes: z.int().nullable(),
    outdatedFrom: z.string().nullable().describe('From this day on the platform no longer speaks so.'),
  })
  .meta({ id: 'Gateway' })

/** What a profile says of itself, once it can be read. */
const gist = {
  asksFor: z.enum(credentialKinds),
  facts: z.array(z.string()).describe('Facts of the account that its request speaks of.'),
}

export const gatewayText = gateway
  .extend({
    text: z.string().nullable().describe('The profile as it was written.'),
    facts: z.array(z.string()).describe('Facts of the account that its request speaks of.'),
  })
  .meta({ id: 'GatewayText' })

export const profileRequest = z.strictObject({
  profile: profileText.describe('The profile, as YAML.'),
  use: z.boolean().default(true).describe('Put it in use at once; the one before waits. Else it waits itself.'),
})

export const gatewayVersion = z
  .object({
    version: z.int(),
    profile: z.string(),
    state: z.enum(profileStates),
    asksFor: z.enum(credentialKinds).nullable(),
    madeAt: instant,
    madeBy: z.string(),
  })
  .meta({ id: 'GatewayVersion', description: 'One version of an app’s gateway profile; the last fifty are kept.' })

export const gatewayVersionText = gatewayVersion.extend({ text: z.string() }).meta({ id: 'GatewayVersionText' })

export const lintRequest = z.strictObject({ text: profileText })
export const linted = z
  .object({
    faults: z
      .array(z.object({ line: z.int(), column: z.int(), says: z.string() }))
      .describe('Each with its place, both from 1; fifty at most.'),
    profile: z
      .object({ name: z.string(), platform: z.enum(platforms), ...gist })
      .nullable()
      .describe('What it says, once there is no fault.'),
  })
  .meta({ id: 'LintedProfile' })

export const recordingRequest = z.strictObject({
  seconds: z.int().min(1).max(600).default(60).describe('For so long; it ends earlier when it is full.'),
})

/** So many exchanges a recording holds. */
export const maxRecorded = 100

export const recording = z
  .object({
    until: instant.nullable().describe('Null when it has ended, or there is none.'),
    exchanges: z.int(),
    har: z
      .looseObject({ log: z.looseObject({ version: z.literal('1.2'), entries: z.array(z.looseObject({})) }) })
      .describe('An HTTP Archive (HAR 1.2): what went out and came back, with what says who asks masked.'),
  })
  .meta({ id: 'GatewayRecording' })

export const trialRequest = z.strictObject({
  device: uuid.optional().describe('For which device; one that cannot exist when left out.'),
  profile: profileText.optional().describe('With this profile, before it is saved; else with the one in use.'),
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
export type GatewayText = z.infer<typeof gatewayText>
export type GatewayVersion = z.infer<typeof gatewayVersion>
export type GatewayTrial = z.infer<typeof trial>
