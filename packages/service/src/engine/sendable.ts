import type { Content } from '@zbell/core'
import type { Notification } from './notification.ts'
import type { Sendable } from './ports.ts'

/**
 * A notification as one reader gets it.
 * @param aheadMs by how much the clock of its times is ahead of this process's
 */
export const sendable = (notification: Omit<Notification, 'no'>, content: Content, aheadMs: number): Sendable => ({
  id: notification.id,
  content,
  mode: notification.mode,
  urgency: notification.urgency,
  ttlSeconds: notification.ttlSeconds,
  expiresAtMs: notification.expiresAt.getTime() - aheadMs,
})
