import { platforms } from '@zbell/core'
import { z } from 'zod'
import type { RouteName } from '../routes.ts'
import { channelName } from '../schemas/channel.ts'
import { delivery, deliveryState } from '../schemas/delivery.ts'
import { explanation, progress } from '../schemas/knowing.ts'
import {
  accepted,
  holdRequest,
  notification,
  notificationEdit,
  notificationRequest,
  review,
  reviewReader,
} from '../schemas/notification.ts'
import { environmentQuery, namedPageQuery, pageOf, pageQuery } from '../schemas/page.ts'
import { newTemplate, template } from '../schemas/template.ts'
import { exportQuery } from '../schemas/transfer.ts'
import type { Operation } from './operation.ts'
import { done, environment } from './operation.ts'

const notificationFilter = {
  channel: channelName.optional().describe('Only those of this channel.'),
  search: z.string().max(100).optional().describe('Only those whose texts or name have this in them.'),
  user: z.string().max(128).optional().describe('Only those with a delivery for this person.'),
  reason: z.string().max(40).optional().describe('Only those with a delivery that ended for this reason.'),
}

const deliveryFilter = {
  state: deliveryState.optional(),
  reason: z.string().max(40).optional(),
  platform: z.enum(platforms).optional(),
}

/** Sending, and knowing what became of it. */
export const notificationsOperations = {
  sendNotification: {
    summary: 'Send a notification',
    caller: 'app',
    status: 202,
    query: z.object({
      ...environmentQuery,
      dryRun: z
        .enum(['true', 'false'])
        .optional()
        .describe('With `true` nothing is sent: the answer is 200 with a Review, as /notifications/review gives it.'),
    }),
    body: notificationRequest,
    answer: accepted,
    repeats: 'itself',
  },
  reviewNotification: {
    ...done,
    summary: 'What would happen: nothing is stored and nothing is sent',
    caller: 'app',
    query: z.object({ ...environmentQuery, ...reviewReader.shape }),
    body: notificationRequest,
    answer: review,
  },
  editNotification: {
    ...done,
    summary: 'Change a paused notification of which nothing has gone',
    caller: 'app',
    query: environment,
    body: notificationEdit,
    answer: notification,
  },
  holdNotification: {
    ...done,
    summary: 'Pause a notification, let it go on, or cancel it; by its id or its name',
    caller: 'app',
    query: environment,
    body: holdRequest,
    answer: notification,
  },
  withdrawNotification: {
    status: 202,
    summary: 'Take back what devices show of it: they are woken and remove it',
    caller: 'app',
    query: environment,
    answer: accepted,
  },
  readProgress: {
    ...done,
    summary: 'How its deliveries went over time',
    caller: 'app',
    query: environment,
    answer: progress,
  },
  explainDelivery: {
    ...done,
    summary: 'Why somebody did or did not see it: `user:NAME` or `device:ID`',
    caller: 'app',
    query: environment,
    answer: explanation,
  },
  listTemplates: {
    ...done,
    summary: 'Templates by name, each in its newest version',
    caller: 'app',
    query: z.object({ ...environmentQuery, ...namedPageQuery }),
    answer: pageOf(template),
  },
  readTemplate: {
    ...done,
    summary: 'A template: `delay` in its newest version, `delay@3` in that one',
    caller: 'app',
    query: environment,
    answer: template,
  },
  saveTemplate: {
    ...done,
    summary: 'Save a template; a change is a new version',
    caller: 'app',
    query: environment,
    body: newTemplate,
    answer: template,
  },
  deleteTemplate: {
    status: 204,
    summary: 'Remove a template from the list; what was sent by it stays as it was',
    caller: 'app',
    query: environment,
  },
  listNotifications: {
    ...done,
    summary: 'Notifications, newest first',
    caller: 'app',
    query: z.object({
      ...environmentQuery,
      ...pageQuery,
      ...notificationFilter,
    }),
    answer: pageOf(notification),
  },
  exportNotifications: {
    ...done,
    summary: 'Notifications with their totals as a file: NDJSON or CSV, streamed, newest first',
    caller: 'app',
    query: exportQuery.extend(notificationFilter),
    answer: z.string(),
    file: true,
  },
  exportDeliveries: {
    ...done,
    summary: 'What became of each device of a notification, as a file: NDJSON or CSV, streamed',
    caller: 'app',
    query: exportQuery.extend(deliveryFilter),
    answer: z.string(),
    file: true,
  },
  readNotification: {
    ...done,
    summary: 'One notification, with its totals',
    caller: 'app',
    query: environment,
    answer: notification,
  },
  listDeliveries: {
    ...done,
    summary: 'What became of each device',
    caller: 'app',
    query: z.object({
      ...environmentQuery,
      ...pageQuery,
      ...deliveryFilter,
    }),
    answer: pageOf(delivery),
  },
  watchNotification: {
    ...done,
    summary: 'One notification as it goes: `notification` and `delivery` events',
    caller: 'app',
    query: environment,
    answer: z.union([notification, delivery]),
    events: true,
  },
  watchApp: {
    ...done,
    summary: 'All notifications of an app as they go: `notification` and `devices` events',
    caller: 'app',
    query: environment,
    answer: z.union([notification, z.object({ changed: z.literal(true) })]),
    events: true,
  },
} as const satisfies Partial<Record<RouteName, Operation>>
