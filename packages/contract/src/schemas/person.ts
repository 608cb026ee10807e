import {
  type AttributeValue,
  attributeTypeOf,
  attributeTypes,
  dataFault,
  isAttributeName,
  isTopicName,
  textFault,
} from '@zbell/core'
import { z } from 'zod'
import { type PersonColumn, personSorts } from '../sorts.ts'
import { device, timeZone, userName } from './device.ts'
import { caps, ownQuietHours, quietHours } from './policy.ts'
import { anyJson, instant, plainText, uuid } from './text.ts'

const attributeName = z
  .string()
  .refine(isAttributeName, 'is not a name: a letter first, then letters, digits, hyphens and underscores, 64 at most')

const attributeValue = z
  .custom<AttributeValue>(
    (value) => attributeTypeOf(value) !== undefined && (typeof value !== 'string' || textFault(value) === undefined),
    'is neither text, nor a number, nor true or false, nor {"longitude": …, "latitude": …}',
  )
  .meta({
    id: 'AttributeValue',
    anyOf: [
      { type: 'string', description: 'A text, or an instant by RFC 3339.' },
      { type: 'number' },
      { type: 'boolean' },
      {
        type: 'object',
        required: ['longitude', 'latitude'],
        properties: { longitude: { type: 'number' }, latitude: { type: 'number' } },
      },
    ],
  })

export const topicName = z
  .string()
  .refine(isTopicName, 'is not a topic: small letters, digits, hyphens and dots, 64 at most')

/** How many attributes one call may set. */
const maxAttributes = 50

export const attributeChange = z
  .record(attributeName, attributeValue.nullable())
  .refine((given) => Object.keys(given).length <= maxAttributes, `has more than ${maxAttributes} attributes`)
  .describe('Name and value; null removes one. An attribute gets its type by its first use.')

export const attributeValues = z.record(z.string(), attributeValue)

export const attribute = z
  .object({
    name: z.string(),
    type: z.enum(attributeTypes),
    devicesMay: z.boolean().describe('Whether devices may set it for their own user.'),
    createdAt: instant,
  })
  .meta({ id: 'Attribute' })

export const attributeSetting = z.strictObject({
  type: z.enum(attributeTypes).optional().describe('Declares it, when it has not been used yet.'),
  devicesMay: z.boolean().optional(),
})

const utf8 = new TextEncoder()
const dataBytes = 10_000
const dataDepth = 8

/** Looked at before it is copied: a copy would lose a name such as `__proto__` without a word. */
const occurrenceData = z
  .unknown()
  .superRefine((value, context) => {
    const fault = dataFault(value, dataDepth)
    if (fault) context.addIssue({ code: 'custom', message: fault.says, path: [...fault.path], continue: false })
    const bytes = utf8.encode(JSON.stringify(value) ?? '').length
    if (bytes > dataBytes)
      context.addIssue({ code: 'custom', message: `has ${bytes} bytes of JSON; ${dataBytes} fit`, continue: false })
  })
  .pipe(anyJson)
  .meta({ description: 'Any JSON; at most 10,000 bytes, 8 levels deep.' })

/** CloudEvents 1.0, JSON format (§3). */
export const occurrence = z
  .object({
    specversion: z.literal('1.0').default('1.0'),
    id: plainText(200).min(1),
    source: plainText(500).min(1).describe('A URI reference; with the id it names the occurrence.'),
    type: plainText(200).min(1),
    time: instant.optional(),
    subject: userName.optional().describe('The user whom it is about.'),
    datacontenttype: z
      .string()
      .regex(/^(?:application\/(?:[\w.+-]+\+)?json|text\/[\w.+-]+)\s*(?:;.*)?$/i, 'is neither JSON nor text')
      .max(200)
      .optional(),
    data: occurrenceData.optional(),
    data_base64: z.undefined('is not kept: send data, as JSON or text').optional(),
  })
  .meta({ id: 'Occurrence', description: 'Something that happened, perhaps about a user: CloudEvents 1.0.' })

export const occurrencesTaken = z.object({
  taken: z.int(),
  known: z.int().describe('These had come before, by source and id.'),
})

export const person = z
  .object({
    user: z.string().nullable(),
    attributes: attributeValues,
    devices: z.int(),
    topics: z.array(z.string()),
    createdAt: instant,
    changedAt: instant,
  })
  .meta({ id: 'Person', description: 'A user, with what is known of them.' })

export const personWhole = person
  .extend({
    quietHours: ownQuietHours.describe('Their own, beside the app’s.'),
    mutedChannels: z.array(z.string()).describe('Channels that they muted in the app.'),
    devices: z.array(device),
    occurrences: z.array(
      z.object({ id: z.string(), source: z.string(), type: z.string(), at: instant, data: anyJson.nullable() }),
    ),
  })
  .meta({ id: 'WholePerson' })

export const topic = z
  .object({
    topic: z.string(),
    title: z.string().nullable(),
    declared: z.boolean().describe('Declared by the app, not only by the first to join.'),
    devices: z.int(),
    users: z.int(),
    createdAt: instant,
  })
  .meta({ id: 'Topic' })

export const topicSetting = z.strictObject({ title: plainText(80).min(1).nullable().default(null) })

/** How many may join or leave in one call. */
const atOnce = 10_000

export const topicMembers = z
  .strictObject({
    users: z.array(userName).max(atOnce).default([]),
    devices: z.array(uuid).max(atOnce).default([]),
  })
  .refine(({ users, devices }) => users.length + devices.length > 0, 'names nobody')

export const membersChanged = z.object({
  changed: z.int().describe('Those for whom it was new.'),
  unknown: z.array(z.string()).describe('Users and devices that are not here; the first hundred.'),
})

export const appSettings = z
  .object({
    requireProof: z.boolean().describe('A device that names a user has to show a proof of it.'),
    openTopics: z.boolean().describe('Devices may join topics that nobody declared.'),
    askFrom: z.int().describe('Who sends to so many devices or more has to type their number.'),
    timeZone: z.string().describe('By this clock those are meant whose devices have told none.'),
    quietHours,
    caps,
    runawayFloor: z.int().describe('A trigger that fires less often within an hour is not stopped as a runaway.'),
    proofKey: z.boolean().describe('A key for proofs is there.'),
  })
  .meta({ id: 'AppSettings' })

export const appSettingsChange = z.strictObject({
  requireProof: z.boolean().optional(),
  openTopics: z.boolean().optional(),
  timeZone: timeZone.optional(),
  runawayFloor: z.int().min(1).max(1_000_000).optional(),
  quietHours: quietHours.optional(),
  caps: caps.optional(),
  askFrom: z
    .int('wants a whole number')
    .min(1, 'wants one device at least')
    .max(100_000_000, 'wants 100,000,000 devices at most')
    .optional(),
})

export const madeProofKey = z
  .object({
    key: z
      .string()
      .describe('Answered this once. Your backend signs with it: HS256, `sub` the user, `exp` at most an hour ahead.'),
  })
  .meta({ id: 'ProofKey' })

export type Attribute = z.infer<typeof attribute>
export type Person = z.infer<typeof person>
export type WholePerson = z.infer<typeof personWhole>
export type Topic = z.infer<typeof topic>
export type AppSettings = z.infer<typeof appSettings>

/** A column, or `attribute.` and a name; attributes go up unless it is said otherwise. */
export const personSort = z.union([
  z.enum(Object.keys(personSorts) as [PersonColumn, ...PersonColumn[]]),
  z
    .string()
    .refine(
      (text): text is `attribute.${string}` => text.startsWith('attribute.') && isAttributeName(text.slice(10)),
      `is none of ${Object.keys(personSorts).join(', ')}, nor attribute. and a name`,
    ),
])
