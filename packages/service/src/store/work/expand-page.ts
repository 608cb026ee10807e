import { blockSize, packBlock, spreadPlan } from '@zbell/core'
import type { Database, Tx } from '../database.ts'
import { holds } from '../notifications/hold-codes.ts'
import type { NotificationRow } from '../notifications/read-notifications.ts'
import type { Claim } from './claim-work.ts'
import { parkClaimed } from './parking.ts'
import { finishIfDone } from './store-outcomes.ts'
import { countTarget, targetDevices } from './target-devices.ts'

export type Expansion = 'more' | 'done' | 'lost' | 'held'

/** How many devices one transaction reads: what a page costs apart from its devices is paid once for all of them. */
const pageSize = 5 * blockSize

/**
 * Expands one page of a notification's target, in device order, into blocks of work. Where it got to is stored with the
 * blocks, so that after a crash the next claim goes on from there.
 */
export async function expandPage(
  database: Database,
  claim: Claim,
  notification: NotificationRow,
  leaseMs: number,
): Promise<Expansion> {
  return database.transact(async (tx) => {
    const [place] = await tx.rows<{ expanded: number; expandedTo: number; spreadOver: number; hold: number }>(
      'select expanded, expanded_to as expandedTo, spread_over as spreadOver, hold from notifications where no = ? for update',
      [notification.no],
    )
    if (!place) return 'lost'
    if (place.hold === holds.paused) return (await parkClaimed(tx, claim)) ? 'held' : 'lost'
    const cancelled = place.hold === holds.cancelled
    const numbers = cancelled
      ? []
      : await targetDevices(tx, notification.target, notification, place.expandedTo, pageSize)
    const done = numbers.length < pageSize
    const held = done
      ? await tx.change('delete from work where no = ? and fence = ?', [claim.no, claim.fence])
      : await tx.change(
          'update work set available_at = utc_timestamp(3) + interval ? microsecond where no = ? and fence = ?',
          [leaseMs * 1_000, claim.no, claim.fence],
        )
    if (held.affectedRows !== 1) return 'lost'
    const over =
      notification.spreadSeconds > 0 && place.expanded === 0 && !cancelled
        ? await countTarget(tx, notification.target, notification)
        : place.spreadOver
    await storeBlocks(tx, notification, claim.urgency, numbers, { done: place.expanded, over })
    await tx.change(
      `update notifications set expanded = expanded + ?, expanded_to = ?, spread_over = ?, changed_at = utc_timestamp(3),
         version = version + 1 ${done ? ", state = 'sending'" : ''} where no = ?`,
      [numbers.length, numbers.at(-1) ?? place.expandedTo, over, notification.no],
    )
    if (done) await finishIfDone(tx, notification.no)
    return done ? 'done' : 'more'
  })
}

/** Cuts devices into blocks, each due when its turn in the spread comes. */
async function storeBlocks(
  tx: Tx,
  { no, appNo, spreadSeconds, createdAt }: NotificationRow,
  urgency: number,
  numbers: readonly number[],
  { done, over }: { readonly done: number; readonly over: number },
): Promise<void> {
  if (numbers.length === 0) return
  const { size, dueMs } = spreadPlan(spreadSeconds, over, blockSize)
  const rows: unknown[][] = []
  for (let at = 0; at < numbers.length; at += size) {
    const block = numbers.slice(at, at + size)
    const due = new Date(createdAt.getTime() + dueMs(done + at))
    rows.push(['send', appNo, no, urgency, due, block.length, Buffer.from(packBlock(block))])
  }
  await tx.change('insert into work (kind, app_no, notification_no, urgency, available_at, size, devices) values ?', [
    rows,
  ])
}
