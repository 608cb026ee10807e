import { permissions, platforms } from '@zbell/core'
import { z } from 'zod'
import { locale, pushKey, timeZone, token, userName } from './device.ts'
import { environmentQuery } from './page.ts'
import { attributeChange, topicName } from './person.ts'
import { plainText, uuid } from './text.ts'

/** What can be carried in and out as a file. */
export const transferable = ['devices', 'users', 'topics'] as const
export type Transferable = (typeof transferable)[number]

export const exportQuery = z.object({
  ...environmentQuery,
  format: z.enum(['csv', 'ndjson']).default('ndjson'),
})

/** One line of a file of devices: as they are exported, and as they come from elsewhere. */
export const deviceLine = z.object({
  platform: z.enum(platforms),
  token: token.or(z.url({ protocol: /^https$/ }).max(2_000)).describe('The gateway’s token; for the web the endpoint.'),
  p256dh: pushKey(65, 'an uncompressed point').nullish(),
  auth: pushKey(16, 'an authentication secret').nullish(),
  user: userName.nullish(),
  permission: z.enum(permissions).default('granted'),
  muted: z.boolean().default(false),
  locale: locale.nullish(),
  timeZone: timeZone.nullish(),
  appVersion: plainText(64).nullish(),
  systemVersion: plainText(64).nullish(),
  model: plainText(64).nullish(),
})

/** One line of a file of users. In CSV every further column is an attribute, and topics stand with spaces between. */
export const userLine = z.object({
  user: userName,
  attributes: attributeChange.default({}),
  topics: z.array(topicName).max(100).default([]),
})

/** One line of a file of topics: the topic itself, or one who joined it. */
export const topicLine = z.object({
  topic: topicName,
  title: plainText(80).nullish(),
  user: userName.nullish(),
  device: uuid.nullish(),
})

export const imported = z
  .object({
    taken: z.int(),
    refused: z.int(),
    faults: z
      .array(z.object({ line: z.int().describe('From 1, the heading of a CSV file included.'), says: z.string() }))
      .describe('The first thousand.'),
  })
  .meta({ id: 'Imported' })

export type Imported = z.infer<typeof imported>
