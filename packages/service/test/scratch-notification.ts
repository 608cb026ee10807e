import { randomBytes } from 'node:crypto'
import { uuidV7 } from '@zbell/core'
import type { NewNotification } from '../src/store/notifications/create-notification.ts'

/** A notification for everyone with nothing special about it but what is said. */
export const newNotification = (more: Partial<NewNotification> = {}): NewNotification => ({
  id: uuidV7(Date.now(), randomBytes(10)),
  target: { any: ['everyone'] },
  content: { title: 'T' },
  name: null,
  template: null,
  filling: {},
  spreadSeconds: 0,
  paused: false,
  urgency: 'normal',
  mode: 'show',
  ttlSeconds: 60,
  sentBy: 'test',
  idempotencyHash: null,
  requestHash: Buffer.alloc(32),
  ...more,
})
