import {
  type DeviceEvent,
  deliveryStateNames,
  deviceEvents,
  environments,
  isUserName,
  permissions,
  platforms,
  targetLimits,
  userRefusalCodes,
} from '@zbell/core'
import { z } from 'zod'
import { type DeviceSort, deviceSorts } from '../sorts.ts'
import { instant, plainText, uuid } from './text.ts'

export const userName = z
  .string()
  .refine(isUserName, `wants 1 to ${targetLimits.userChars} characters without spaces`)
  .describe('The person, as the app’s own system names them.')

export const token = z
  .string()
  .regex(/^[\x21-\x7e]{16,4096}$/, 'is not a device token: 16 to 4,096 visible ASCII characters are wanted')

export const pushKey = (bytes: number, what: string) =>
  z
    .string()
    .regex(/^[A-Za-z0-9_-]+={0,2}$/, 'is not base64url')
    .refine(
      (text) => Math.floor((text.replace(/=+$/, '').length * 3) / 4) === bytes,
      `is not ${what} of ${bytes} bytes`,
    )

/** W3C Push API, PushSubscription.toJSON(). */
export const subscription = z
  .object({
    endpoint: z.url({ protocol: /^https$/, error: 'is not an https address' }).max(2_000),
    expirationTime: z.number().nullish(),
    keys: z.object({ p256dh: pushKey(65, 'an uncompressed point'), auth: pushKey(16, 'an authentication secret') }),
  })
  .meta({ id: 'PushSubscription' })

/** Asking the platform whether it knows a tag or a zone costs more than all the rest of a registration; the few there are keep. */
function remembering(isKnown: (text: string) => boolean): (text: string) => boolean {
  const known = new Set<string>()
  return (text) => {
    if (known.has(text)) return true
    try {
      if (!isKnown(text)) return false
    } catch {
      return false // The platform throws a RangeError for what it does not know.
    }
    if (known.size < 1_000) known.add(text)
    return true
  }
}

export const locale = z
  .string()
  .max(35)
  .refine(
    remembering((text) => Intl.getCanonicalLocales(text).length === 1),
    'is not a BCP 47 language tag',
  )

export const timeZone = z
  .string()
  .max(64)
  .refine(
    remembering((text) => text.length > 0 && new Intl.DateTimeFormat('en', { timeZone: text }) !== undefined),
    'is not an IANA time zone',
  )

const allowed = z
  .object({ alerts: z.boolean(), badges: z.boolean(), sounds: z.boolean() })
  .describe('What exactly the user allowed, where the platform tells each apart.')

const installation = z
  .string()
  .regex(
    /^[A-Za-z0-9_-]{16,64}$/,
    'is not an installation: 16 to 64 letters, digits, hyphens and underscores are wanted',
  )
  .describe('Made up by the installation at its first start, and kept for as long as it is installed.')

const secret = z
  .string()
  .min(1)
  .max(200)
  .optional()
  .describe('The device’s own secret, where it has one: nothing else shows that it is the device that it was.')

const proof = z
  .string()
  .max(4_000)
  .optional()
  .describe(
    'A JWT that the app’s backend signed for this user; required when the app asks for proofs. Where it is missing or refused, the device belongs to nobody and everything else is kept.',
  )

const facts = {
  permission: z.enum(permissions).describe('What the user answered (W3C Permissions).'),
  muted: z.boolean().describe('The user turned notifications off inside the app.'),
  user: userName.nullable(),
  allows: allowed.nullable(),
  locale: locale.nullable(),
  timeZone: timeZone.nullable(),
  appVersion: plainText(64).nullable(),
  systemVersion: plainText(64).nullable(),
  model: plainText(64).nullable(),
}

const blockedChannels = z
  .array(z.string().max(64))
  .max(100)
  .optional()
  .describe(
    'The app’s channels that the system blocks on the device, where it tells; what is left out stays as it was.',
  )

const registrationFacts = {
  ...facts,
  permission: facts.permission.default('prompt'),
  muted: facts.muted.default(false),
  user: facts.user.default(null),
  allows: facts.allows.default(null),
  locale: facts.locale.default(null),
  timeZone: facts.timeZone.default(null),
  appVersion: facts.appVersion.default(null),
  systemVersion: facts.systemVersion.default(null),
  model: facts.model.default(null),
}

const claims = { installation: installation.optional(), secret, proof, blockedChannels }

export const registration = z.discriminatedUnion('platform', [
  z.strictObject({ platform: z.literal('ios'), token, ...registrationFacts, ...claims }),
  z.strictObject({ platform: z.literal('android'), token, ...registrationFacts, ...claims }),
  z.strictObject({ platform: z.literal('web'), subscription, ...registrationFacts, ...claims }),
])

export const deviceChange = z
  .strictObject({
    ...facts,
    token,
    subscription,
    proof,
    blockedChannels,
    merge: z
      .boolean()
      .describe('With `user`: what is known of the anonymous person (attributes, topics, occurrences) becomes theirs.'),
  })
  .partial()
  .describe('What changed; whatever is left out stays as it is.')

export const device = z
  .object({
    id: uuid,
    platform: z.enum(platforms),
    environment: z.enum(environments),
    ...facts,
    rehearsal: z.boolean().describe('It is a virtual handset’s: ringing it is a rehearsal.'),
    registeredAt: instant,
    seenAt: instant,
    changedAt: instant.describe('When anything of it changed last, a sign of life among it.'),
    receiptAt: instant.nullable().describe('When it last reported on a delivery, to the minute.'),
    retiredAt: instant.nullable(),
    retiredReason: z.string().nullable(),
  })
  .meta({ id: 'Device', description: 'One installation that can be rung.' })

/** Why a user was refused. */
const userRefused = z
  .object({
    code: z.enum(userRefusalCodes),
    detail: z.string(),
  })
  .nullable()
  .meta({ id: 'UserRefused' })
  .describe(
    'Why the user that the device named was refused. The device belongs to nobody then, and everything else was kept; null where nothing was refused.',
  )

export const userRefusals = z
  .array(z.object({ code: z.enum(userRefusalCodes), detail: z.string(), count: z.int() }))
  .describe('Users that devices named today (UTC) and that were refused: how many by reason, the most frequent first.')

export const ownDevice = device
  .extend({ userRefused })
  .meta({ id: 'OwnDevice', description: 'The device, and why the user that it named was refused, if it was.' })

export const registered = z
  .object({
    device,
    userRefused,
    secret: z
      .string()
      .describe('With it the device speaks for itself: a new one, answered this once, or the one that was shown.'),
    installation: z
      .string()
      .nullable()
      .describe('To be kept: another one than was sent, made here, when another device has that one.'),
  })
  .meta({ id: 'RegisteredDevice' })

export const installedApp = z
  .object({
    app: z.string(),
    name: z.string(),
    environment: z.enum(environments),
    applicationServerKey: z.string().nullable().describe('For the browser’s pushManager.subscribe(); base64url.'),
    requireProof: z.boolean().describe('Whether a device that names a user has to show a proof.'),
  })
  .meta({ id: 'InstalledApp', description: 'What an app key lets an installed app know.' })

export type Registration = z.input<typeof registration>
export type DeviceChange = z.input<typeof deviceChange>
export type Device = z.infer<typeof device>
export type OwnDevice = z.infer<typeof ownDevice>

const deviceEventNames = Object.keys(deviceEvents) as [DeviceEvent]

export const deviceRecord = z
  .object({
    events: z
      .array(
        z.object({ event: z.enum(deviceEventNames), says: z.string(), detail: z.string().nullable(), at: instant }),
      )
      .describe('What happened to it, newest first.'),
    topics: z.array(z.object({ topic: z.string(), joinedAt: instant })),
    deliveries: z
      .array(
        z.object({
          notification: uuid,
          title: z.string(),
          state: z.enum(deliveryStateNames as [(typeof deliveryStateNames)[number]]),
          detail: z.string().nullable(),
          at: instant,
        }),
      )
      .describe('What the last notifications became on it, newest first.'),
  })
  .meta({ id: 'DeviceRecord' })

export type DeviceRecord = z.infer<typeof deviceRecord>

export const deviceSort = z.enum(Object.keys(deviceSorts) as [DeviceSort, ...DeviceSort[]])
