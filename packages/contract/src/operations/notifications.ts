import { z } from 'zod'
import type { RouteName } from '../routes.ts'
import { delivery, deliveryState } from '../schemas/delivery.ts'
import { accepted, notification, notificationRequest } from '../schemas/notification.ts'
import { environmentQuery, pageOf, pageQuery } from '../schemas/page.ts'
import type { Operation } from './operation.ts'
import { done, environment } from './operation.ts'

/** Sending, and knowing what became of it. */
export const notificationsOperations = {
  sendNotification: {
    summary: 'Send a notification',
    caller: 'app',
    status: 202,
    query: environment,
    body: notificationRequest,
    answer: accepted,
  },
  listNotifications: {
    ...done,
    summary: 'Notifications, newest first',
    caller: 'app',
    query: z.object({ ...environmentQuery, ...pageQuery }),
    answer: pageOf(notification),
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
    query: z.object({ ...environmentQuery, ...pageQuery, state: deliveryState.optional() }),
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
