import type { Content, Values } from '@zbell/core'
import type { BlockDevice } from '../store/devices/load-block-devices.ts'
import type { NotificationRow } from '../store/notifications/read-notifications.ts'
import type { Sendable } from './ports.ts'

/** A person's own choice of a language counts before what the device is set to. */
export const readerOf = ({ platform, locale, timeZone }: BlockDevice, values: Values) => ({
  platform,
  language: typeof values.language === 'string' ? values.language : (locale ?? undefined),
  timeZone: timeZone ?? undefined,
  values,
})

/** A notification as one reader gets it. */
export const sendable = (notification: NotificationRow, content: Content): Sendable => ({
  id: notification.id,
  content,
  mode: notification.mode,
  urgency: notification.urgency,
  ttlSeconds: notification.ttlSeconds,
  expiresAtMs: notification.expiresAt.getTime(),
})
