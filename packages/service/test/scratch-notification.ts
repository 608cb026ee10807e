import { randomBytes } from 'node:crypto'
import { uuidV7 } from '@zbell/core'
import type { Database } from '../src/database/database.ts'
import type { Scope } from '../src/database/scope.ts'
import type { Claim } from '../src/engine/work.ts'
import { type BuildOptions, begin } from '../src/notifications/build-notification.ts'
import { type NewNotification, storeNotification } from '../src/notifications/store/store-notification.ts'
import { FairQueue } from '../src/queue/fair-queue.ts'
import { claimNotificationWork } from '../src/sending/store/claim-notification-work.ts'

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

/** Stores one as it is given. */
export const createNotification = async (
  database: Database,
  scope: Scope,
  given: NewNotification,
  options: BuildOptions = {},
) => storeNotification(database, scope, await begin(database, scope, given, options))

/** What is due next, by a process that served nobody before. @param held what it has at hand */
export const claimNext = async (
  database: Database,
  leaseMs: number,
  held: readonly number[] = [],
): Promise<Claim | undefined> =>
  (await claimNotificationWork(database, { leaseMs, fair: new FairQueue(), held }))?.claim
