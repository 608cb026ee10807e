import { blockSize, packBlock, parseReference } from '@zbell/core'
import { uuidBuffer } from '../columns.ts'
import type { Database, Tx } from '../database.ts'
import type { NotificationRow } from '../notifications/read-notifications.ts'
import type { Claim } from './claim-work.ts'
import { finishIfDone } from './store-outcomes.ts'

export type Expansion = 'more' | 'done' | 'lost'

/**
 * Expands one page of a notification's target, in device order, into one block of work. Where it got to is stored with
 * the block, so that after a crash the next claim goes on from there.
 */
export async function expandPage(
  database: Database,
  claim: Claim,
  notification: NotificationRow,
  leaseMs: number,
): Promise<Expansion> {
  return database.transact(async (tx) => {
    const [place] = await tx.rows<{ expandedTo: number }>(
      'select expanded_to as expandedTo from notifications where no = ? for update',
      [notification.no],
    )
    if (!place) return 'lost'
    const numbers = await nextDevices(tx, notification, place.expandedTo)
    const done = numbers.length < blockSize
    const held = done
      ? await tx.change('delete from work where no = ? and fence = ?', [claim.no, claim.fence])
      : await tx.change(
          'update work set available_at = utc_timestamp(3) + interval ? microsecond where no = ? and fence = ?',
          [leaseMs * 1_000, claim.no, claim.fence],
        )
    if (held.affectedRows !== 1) return 'lost'
    if (numbers.length > 0) {
      await tx.change(
        `insert into work (kind, notification_no, urgency, available_at, size, devices)
         values ('send', ?, ?, utc_timestamp(3), ?, ?)`,
        [notification.no, claim.urgency, numbers.length, Buffer.from(packBlock(numbers))],
      )
    }
    await tx.change(
      `update notifications set expanded = expanded + ?, expanded_to = ?, changed_at = utc_timestamp(3)
         ${done ? ", state = 'sending'" : ''} where no = ?`,
      [numbers.length, numbers.at(-1) ?? place.expandedTo, notification.no],
    )
    if (done) await finishIfDone(tx, notification.no)
    return done ? 'done' : 'more'
  })
}

async function nextDevices(tx: Tx, notification: NotificationRow, after: number): Promise<number[]> {
  const references = notification.target.any.map(parseReference).filter((reference) => typeof reference !== 'string')
  const conditions: string[] = []
  const values: unknown[] = []
  if (!references.some((reference) => reference.is === 'everyone')) {
    const userNames = references.flatMap((reference) => (reference.is === 'user' ? [reference.user] : []))
    const ids = references.flatMap((reference) => (reference.is === 'device' ? [uuidBuffer(reference.device)] : []))
    if (userNames.length > 0) {
      conditions.push('user_no in (select no from users where app_no = ? and environment = ? and name in (?))')
      values.push(notification.appNo, notification.environment, userNames)
    }
    if (ids.length > 0) {
      conditions.push('id in (?)')
      values.push(ids)
    }
  }
  const rows = await tx.rows<{ no: number }>(
    `select no from devices where app_no = ? and environment = ? and no > ? and retired_at is null
       ${conditions.length > 0 ? `and (${conditions.join(' or ')})` : ''} order by no limit ${blockSize}`,
    [notification.appNo, notification.environment, after, ...values],
  )
  return rows.map((row) => row.no)
}
