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
  // For whom it rings by their own clock, it lives from then; it may live on for others.
  expiresAtMs: Math.min(
    notification.expiresAt.getTime() - aheadMs,
    notification.readerLocal === null ? Number.POSITIVE_INFINITY : Date.now() + notification.ttlSeconds * 1_000,
  ),
})
