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
      `update notifications set expanded = expanded + ?, expanded_to = ?, changed_at = utc_timestamp(3), version = version + 1
         ${done ? ", state = 'sending'" : ''} where no = ?`,
      [numbers.length, numbers.at(-1) ?? place.expandedTo, notification.no],
    )
    if (done) await finishIfDone(tx, notification.no)
    return done ? 'done' : 'more'
  })
}

type Branch = { readonly sql: string; readonly values: readonly unknown[] }

/**
 * The next page of a target's devices. Each kind of reference is a branch of its own, so that each finds its devices by its
 * own index; a device that several branches name comes once.
 */
async function nextDevices(tx: Tx, notification: NotificationRow, after: number): Promise<number[]> {
  const { appNo, environment } = notification
  const references = notification.target.any.map(parseReference).filter((reference) => typeof reference !== 'string')
  if (references.some(({ is }) => is === 'everyone')) {
    const rows = await tx.rows<{ no: number }>(
      `select no from devices where app_no = ? and environment = ? and no > ? and retired_at is null
       order by no limit ${blockSize}`,
      [appNo, environment, after],
    )
    return rows.map(({ no }) => no)
  }
  const named = <Kind extends 'user' | 'device' | 'topic'>(kind: Kind) => references.filter(({ is }) => is === kind)
  const branches: Branch[] = []
  const branch = (sql: string, ...values: unknown[]) => branches.push({ sql, values })
  const users = named('user').flatMap((one) => (one.is === 'user' ? [one.user] : []))
  if (users.length > 0) {
    const own = '(select no from users where app_no = ? and environment = ? and name in (?))'
    branch(`select no from devices where user_no in ${own}`, appNo, environment, users)
  }
  const ids = named('device').flatMap((one) => (one.is === 'device' ? [uuidBuffer(one.device)] : []))
  if (ids.length > 0) branch('select no from devices where id in (?)', ids)
  const topics = named('topic').flatMap((one) => (one.is === 'topic' ? [one.topic] : []))
  if (topics.length > 0) {
    const own = '(select no from topics where app_no = ? and environment = ? and name in (?))'
    branch(`select device_no as no from topic_devices where topic_no in ${own}`, appNo, environment, topics)
    branch(
      `select d.no from devices d join topic_users m on m.user_no = d.user_no where m.topic_no in ${own}`,
      appNo,
      environment,
      topics,
    )
  }
  if (branches.length === 0) return []
  const rows = await tx.rows<{ no: number }>(
    `select v.no from (${branches.map(({ sql }) => sql).join(' union ')}) named join devices v on v.no = named.no
     where v.app_no = ? and v.environment = ? and v.no > ? and v.retired_at is null order by v.no limit ${blockSize}`,
    [...branches.flatMap(({ values }) => values), appNo, environment, after],
  )
  return rows.map(({ no }) => no)
}
