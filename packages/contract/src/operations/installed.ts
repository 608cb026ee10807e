import { z } from 'zod'
import type { RouteName } from '../routes.ts'
import * as devices from '../schemas/device.ts'
import * as people from '../schemas/person.ts'
import { receipts, receiptsTaken } from '../schemas/receipt.ts'
import type { Operation } from './operation.ts'
import { done, made } from './operation.ts'

/** What an installed app says of itself. */
export const installedOperations = {
  readInstalledApp: {
    ...done,
    summary: 'What an installed app needs to know',
    caller: 'installed-app',
    answer: devices.installedApp,
  },
  registerDevice: {
    ...made,
    summary: 'Register a device; the same token again is the same device',
    caller: 'installed-app',
    body: devices.registration,
    answer: devices.registered,
  },
  readOwnDevice: { ...done, summary: 'The device itself', caller: 'device', answer: devices.device },
  changeOwnDevice: {
    ...done,
    summary: 'Tell what changed on the device',
    caller: 'device',
    body: devices.deviceChange,
    answer: devices.ownDevice,
  },
  unregisterOwnDevice: { summary: 'Unregister the device', caller: 'device', status: 204 },
  readOwnAttributes: {
    ...done,
    summary: 'The attributes of the device’s own user that devices may set',
    caller: 'device',
    answer: people.attributeValues,
  },
  changeOwnAttributes: {
    ...done,
    summary: 'Set and remove attributes of the device’s own user, those that the app allows',
    caller: 'device',
    body: people.attributeChange,
    answer: people.attributeValues,
  },
  listOwnTopics: {
    ...done,
    summary: 'The topics that the device or its user joined',
    caller: 'device',
    answer: z.object({ topics: z.array(z.string()) }),
  },
  joinOwnTopic: { summary: 'Join a topic', caller: 'device', status: 204 },
  leaveOwnTopic: { summary: 'Leave a topic', caller: 'device', status: 204 },
  reportOwnOccurrences: {
    ...done,
    summary: 'Report what happened, about the device’s own user: one CloudEvent or up to 100',
    caller: 'device',
    body: z.union([people.occurrence, z.array(people.occurrence).min(1).max(100)]),
    cloudEvents: true,
    answer: people.occurrencesTaken,
  },
  reportReceipts: {
    ...done,
    summary: 'Report what became of deliveries',
    caller: 'device',
    body: receipts,
    answer: receiptsTaken,
  },
} as const satisfies Partial<Record<RouteName, Operation>>
