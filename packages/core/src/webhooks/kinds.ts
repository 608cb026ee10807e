import { z } from 'zod'
import { reasons } from '../deliveries/reasons.ts'
import { permissions, platforms } from '../devices/device.ts'

/** What can be told: what it means, what its `data` looks like, and an example. */
type Kind = {
  readonly says: string
  readonly data: z.ZodObject
  /** The device, notification or name that it is about. */
  readonly subject: string
  readonly example: Readonly<Record<string, unknown>>
}

const id = z.uuid()
const user = z.string().nullable().describe('The app’s own identifier of whoever was signed in; null for nobody.')
const platform = z.enum(platforms)
const permission = z.enum(permissions)
const text = z.string().nullable()
const reason = z.enum(Object.keys(reasons) as [keyof typeof reasons, ...(keyof typeof reasons)[]])

const device = { device: id, platform, user }
const delivery = {
  notification: id,
  ...device,
  sentBy: z.string().describe('Who sent it: account:…, key:…, schedule:… or trigger:….'),
}

const exampleDevice = {
  device: '01936f0a-7c31-7b1e-9d52-3a4b5c6d7e8f',
  platform: 'android',
  user: 'passenger-0042',
}
const exampleDelivery = {
  notification: '01936f0b-12aa-7cde-8f01-23456789abcd',
  ...exampleDevice,
  sentBy: 'trigger:sailing-late',
}

const deviceKind = (says: string, more: z.ZodRawShape, example: object): Kind => ({
  says,
  data: z.object({ ...device, ...more }),
  subject: exampleDevice.device,
  example: { ...exampleDevice, ...example },
})
const deliveryKind = (says: string, more: z.ZodRawShape = {}, example: object = {}): Kind => ({
  says,
  data: z.object({ ...delivery, ...more }),
  subject: exampleDelivery.notification,
  example: { ...exampleDelivery, ...example },
})

/** Every kind of event that a webhook can be told, by its CloudEvents `type`. */
export const eventKinds = Object.freeze({
  'device.registered': deviceKind(
    'A device that nobody knew registered.',
    { permission, locale: text, timeZone: text, appVersion: text, systemVersion: text, model: text },
    {
      permission: 'granted',
      locale: 'nb-NO',
      timeZone: 'Europe/Oslo',
      appVersion: '4.2.0',
      systemVersion: '16',
      model: 'Fjordfone 12',
    },
  ),
  'device.retired': deviceKind(
    'A device cannot be rung any more, until it registers again.',
    {
      reason: z
        .enum(['token-gone', 'token-moved', 'unregistered', 'push-service-silent'])
        .describe(
          'The gateway said so, another installation has its token, the app unregistered it, or its push service never answers.',
        ),
    },
    { reason: 'token-gone' },
  ),
  'device.revived': deviceKind('A device that was retired registered again.', {}, {}),
  'device.permission': deviceKind(
    'The user answered anew whether notifications may be shown.',
    { permission },
    { permission: 'denied' },
  ),
  'delivery.accepted': deliveryKind('The gateway accepted it.'),
  'delivery.received': deliveryKind('It arrived on the device.'),
  'delivery.shown': deliveryKind('It was shown.'),
  'delivery.opened': deliveryKind('It was opened.'),
  'delivery.action': deliveryKind('A button of it was pressed.', { action: z.string() }, { action: 'rebook' }),
  'delivery.dismissed': deliveryKind('It was swiped away.'),
  'delivery.skipped': deliveryKind('It was not sent to this device.', { reason }, { reason: 'permission-denied' }),
  'delivery.refused': deliveryKind(
    'The gateway refused it.',
    {
      reason,
      status: z.int().nullable().describe('Of the gateway’s answer.'),
      says: text.describe('The beginning of what the gateway answered.'),
    },
    { reason: 'token-gone', status: 410, says: '{"reason":"Unregistered"}' },
  ),
  'delivery.expired': deliveryKind('Its lifetime was over first.', { reason }, { reason: 'gateway-unreachable' }),
  'delivery.withdrawn': deliveryKind(
    'It was cancelled or taken back first.',
    { reason: reason.nullable() },
    { reason: null },
  ),
  'notification.finished': {
    says: 'All that was to be handed over was, or came to its end; receipts may still come.',
    data: z.object({
      notification: id,
      sentBy: delivery.sentBy,
      outcome: z.enum(['done', 'cancelled']),
      devices: z.int().min(0),
      states: z
        .record(z.string(), z.int().min(0))
        .describe('How many devices are in which state; receipts are counted too.'),
    }),
    subject: exampleDelivery.notification,
    example: {
      notification: exampleDelivery.notification,
      sentBy: exampleDelivery.sentBy,
      outcome: 'done',
      devices: 212,
      states: { accepted: 180, shown: 21, refused: 3, skipped: 8 },
    },
  },
  'credential.rejected': {
    says: 'A gateway does not take a credential that is in use.',
    data: z.object({ credential: id, platform, says: z.string() }),
    subject: 'android',
    example: {
      credential: '01936f0c-0d51-7a44-b7ab-9c8d7e6f5a4b',
      platform: 'android',
      says: 'rejected: the gateway answered 403',
    },
  },
  'credential.expiring': {
    says: 'A credential in use comes to its end; sent once at each of the days ahead at which it is announced.',
    data: z.object({
      credential: id,
      platform,
      notAfter: z.iso.datetime(),
      days: z.int().min(0).describe('0: it has expired.'),
    }),
    subject: 'ios',
    example: {
      credential: '01936f0c-55b0-7d3a-a3f0-112233445566',
      platform: 'ios',
      notAfter: '2026-12-19T12:00:00.000Z',
      days: 14,
    },
  },
  'trigger.paused': {
    says: 'A trigger fired far more often than ever before, and was stopped before it rang everybody.',
    data: z.object({ trigger: z.string(), because: z.string() }),
    subject: 'sailing-late',
    example: {
      trigger: 'sailing-late',
      because: 'it fired 1000 times within this hour, and 12 times in its busiest hour before',
    },
  },
  'source.away': {
    says: 'A source cannot be read; its triggers wait. Told once, until it was read again.',
    data: z.object({ source: z.string(), says: z.string() }),
    subject: 'sailings',
    example: { source: 'sailings', says: 'cannot be reached at db.merrow-sound.example:3306' },
  },
  'segment.entered': {
    says: 'A person came into a segment that a source looks at.',
    data: z.object({ segment: z.string(), user: z.string() }),
    subject: 'season-pass',
    example: { segment: 'season-pass', user: 'passenger-0042' },
  },
  'segment.left': {
    says: 'A person is not in a segment any more that a source looks at.',
    data: z.object({ segment: z.string(), user: z.string() }),
    subject: 'season-pass',
    example: { segment: 'season-pass', user: 'passenger-0042' },
  },
} as const satisfies Record<string, Kind>)

export type EventKind = keyof typeof eventKinds
export const eventKindNames = Object.freeze(Object.keys(eventKinds)) as readonly EventKind[]

export const isEventKind = (text: string): text is EventKind => Object.hasOwn(eventKinds, text)

/** What is chosen of them: a kind by its name, all of a family (`delivery.*`), or all (`*`). */
export const kindPattern = /^(?:\*|[a-z]+\.(?:\*|[a-z-]+))$/

/** @returns the kinds that patterns mean, in the order of the table */
export const kindsMeant = (patterns: readonly string[]): EventKind[] =>
  eventKindNames.filter((kind) => patterns.some((pattern) => isMeant(pattern, kind)))

const isMeant = (pattern: string, kind: string): boolean =>
  pattern === '*' || pattern === kind || (pattern.endsWith('.*') && kind.startsWith(pattern.slice(0, -1)))

/** The JSON Schema (draft 2020-12) of a kind’s `data`, which may say more one day. */
export const dataSchemaOf = (kind: EventKind): Record<string, unknown> => ({
  ...z.toJSONSchema(eventKinds[kind].data, { io: 'input' }),
  title: kind,
  description: eventKinds[kind].says,
})
