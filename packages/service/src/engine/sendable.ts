import type { Content } from '@zbell/core'
import type { NotificationRow } from '../store/notifications/read-notifications.ts'
import type { Sendable } from './ports.ts'

/** A notification as one reader gets it. */
export const sendable = (notification: Omit<NotificationRow, 'no'>, content: Content): Sendable => ({
  id: notification.id,
  content,
  mode: notification.mode,
  urgency: notification.urgency,
  ttlSeconds: notification.ttlSeconds,
  expiresAtMs: notification.expiresAt.getTime(),
})
