import { z } from 'zod'
import type { RouteName } from '../routes.ts'
import * as devices from '../schemas/device.ts'
import { environmentQuery, namedPageQuery, pageOf, sortedPageQuery } from '../schemas/page.ts'
import * as people from '../schemas/person.ts'
import * as transfer from '../schemas/transfer.ts'
import type { Operation } from './operation.ts'
import { done, environment } from './operation.ts'

/** Devices, people, topics and what happened to them. */
export const peopleOperations = {
  listDevices: {
    ...done,
    summary: 'Devices',
    caller: 'app',
    query: z.object({
      ...environmentQuery,
      ...sortedPageQuery,
      sort: devices.deviceSort.default('registeredAt').describe('The column that orders the list.'),
      user: z.string().optional(),
      platform: z.enum(['ios', 'android', 'web']).optional(),
    }),
    answer: pageOf(devices.device),
  },
  readDevice: { ...done, summary: 'One device', caller: 'app', query: environment, answer: devices.device },
  readDeviceRecord: {
    ...done,
    summary: 'What happened to a device: permission, tokens, topics, deliveries',
    caller: 'app',
    query: environment,
    answer: devices.deviceRecord,
  },
  listUsers: {
    ...done,
    summary: 'People who have a name',
    caller: 'app',
    query: z.object({
      ...environmentQuery,
      ...sortedPageQuery,
      sort: people.personSort
        .default('createdAt')
        .describe('The column that orders the list; `attribute.` and a name for an attribute.'),
      search: z.string().max(128).optional().describe('The beginning of the name.'),
      topic: people.topicName.optional(),
    }),
    answer: pageOf(people.person),
  },
  readUser: {
    ...done,
    summary: 'One person: devices, attributes, topics and occurrences',
    caller: 'app',
    query: environment,
    answer: people.personWhole,
  },
  changeUserAttributes: {
    ...done,
    summary: 'Set and remove attributes of a user, who is made when they are not here yet',
    caller: 'app',
    query: environment,
    body: people.attributeChange,
    answer: people.attributeValues,
  },
  listAttributes: {
    ...done,
    summary: 'The attributes that are declared, with their types',
    caller: 'app',
    query: environment,
    answer: pageOf(people.attribute),
  },
  changeAttribute: {
    ...done,
    summary: 'Declare an attribute, or say whether devices may set it',
    caller: 'app',
    role: 'owner',
    query: environment,
    body: people.attributeSetting,
    answer: people.attribute,
  },
  listTopics: {
    ...done,
    summary: 'Topics by name, with how many joined',
    caller: 'app',
    query: z.object({ ...environmentQuery, ...namedPageQuery }),
    answer: pageOf(people.topic),
  },
  declareTopic: {
    ...done,
    summary: 'Declare a topic, or change its title',
    caller: 'app',
    query: environment,
    body: people.topicSetting,
    answer: people.topic,
  },
  deleteTopic: {
    summary: 'Delete a topic; whoever joined it has left it',
    caller: 'app',
    role: 'owner',
    status: 204,
    query: environment,
  },
  joinTopic: {
    ...done,
    summary: 'Let users and devices join a topic, up to 10,000 at once',
    caller: 'app',
    query: environment,
    body: people.topicMembers,
    answer: people.membersChanged,
  },
  leaveTopic: {
    ...done,
    summary: 'Let users and devices leave a topic, up to 10,000 at once',
    caller: 'app',
    query: environment,
    body: people.topicMembers,
    answer: people.membersChanged,
  },
  reportOccurrences: {
    ...done,
    summary: 'Report what happened: one CloudEvent or up to 1,000',
    caller: 'app',
    query: environment,
    body: z.union([people.occurrence, z.array(people.occurrence).min(1).max(1_000)]),
    cloudEvents: true,
    answer: people.occurrencesTaken,
  },
  exportList: {
    ...done,
    summary: 'All devices, users or topics as a file: NDJSON or CSV, streamed',
    caller: 'app',
    role: 'owner',
    query: transfer.exportQuery,
    answer: z.string(),
    file: true,
  },
  importList: {
    ...done,
    summary: 'Take in a file of devices, users or topics: the body is NDJSON or CSV, as long as it may be',
    caller: 'app',
    role: 'owner',
    query: environment,
    answer: transfer.imported,
  },
} as const satisfies Partial<Record<RouteName, Operation>>
