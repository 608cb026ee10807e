import { reasonOfCode, unpackBlock } from '@zbell/core'
import type { Database } from '../../database/index.ts'
import type { Claim, LeasedWork, Notification } from '../../engine/index.ts'
import { findNotificationByNo } from '../../notifications/index.ts'
import { parkIfStopped } from '../../policy/index.ts'
import { type ClaimedWork, type ClaimOptions, claim, release } from '../../queue/index.ts'

/** How long work that could not be read rests before the next try. */
const afterFaultMs = 5_000

/** Claims work on a notification, and reads what it is about. @returns `undefined` when nothing is due */
export async function claimNotificationWork(
  database: Database,
  options: ClaimOptions,
): Promise<LeasedWork | undefined> {
  const work = await claim(database, options)
  if (!work) return undefined
  try {
    const notification = await findNotificationByNo(database, work.subjectNo)
    if (!notification) throw new Error('there is work for a notification that is not there')
    // What has come in since its app was stopped is parked like what was there.
    if (!notification.stopped || !(await parkIfStopped(database, work)))
      return { claim: claimOf(work, notification), notification: { ...notification, stopped: false } }
  } catch (error) {
    // Nobody will work on it here. When the database is the trouble this fails as well, and the lease runs out.
    await release(database, work, { afterMs: afterFaultMs }).catch(() => false)
    throw error
  }
  return claimNotificationWork(database, options)
}

function claimOf(work: ClaimedWork, { createdAt, channel }: Notification): Claim {
  const { no, fence, kind, appNo, environment, urgency } = work
  const aheadMs = work.claimedAt.getTime() - Date.now()
  const channelNo = channel?.no ?? 0
  const held = { no, fence, appNo, notificationNo: work.subjectNo, urgency, environment, createdAt, channelNo, aheadMs }
  switch (kind) {
    case 'expand':
    case 'withdraw':
    case 'refund':
      return { ...held, kind }
    case 'send':
      return {
        ...held,
        kind,
        failures: work.failures,
        cause: work.cause === 0 ? undefined : reasonOfCode(work.cause),
        devices: unpackBlock(work.body ?? new Uint8Array()),
      }
    default:
      throw new Error(`nobody here knows work of the kind “${kind}”`)
  }
}
