import { createHash } from 'node:crypto'
import { deliveryStates, type Platform, parseReference, type Reference, reasons, type Target } from '@zbell/core'
import type { Scope } from '../apps/apps.ts'
import { uuidBuffer } from '../columns.ts'
import type { Tx } from '../database.ts'
import {
  type BlockDevice,
  blockDeviceColumns,
  blockDeviceOf,
  type RawBlockDevice,
} from '../devices/load-block-devices.ts'

type Where = { readonly appNo: number; readonly environment: Scope['environment'] }
type Part = { readonly sql: string; readonly values: readonly unknown[] }

const tokenHash = (token: string): Buffer => createHash('sha256').update(token).digest()

/** References of one part of a target by their kind, each kind asked by one statement with an index of its own. */
type ByKind = {
  readonly everyone: boolean
  readonly users: string[]
  readonly devices: string[]
  readonly tokens: string[]
  readonly topics: string[]
  readonly reached: string[]
}

const byKind = (texts: readonly string[]): ByKind => {
  const all = texts.map(parseReference).filter((one): one is Reference => typeof one !== 'string')
  return {
    everyone: all.some(({ is }) => is === 'everyone'),
    users: all.flatMap((one) => (one.is === 'user' ? [one.user] : [])),
    devices: all.flatMap((one) => (one.is === 'device' ? [one.device] : [])),
    tokens: all.flatMap((one) => (one.is === 'token' ? [one.token] : [])),
    topics: all.flatMap((one) => (one.is === 'topic' ? [one.topic] : [])),
    reached: all.flatMap((one) => (one.is === 'reached' ? [one.notification] : [])),
  }
}

/** Statements that each name devices by number; together they are the union of what the references name. */
function branches({ users, devices, tokens, topics, reached }: ByKind, { appNo, environment }: Where): Part[] {
  const all: Part[] = []
  const add = (sql: string, ...values: unknown[]) => all.push({ sql, values })
  if (users.length > 0)
    add(
      'select no from devices where user_no in (select no from users where app_no = ? and environment = ? and name in (?))',
      appNo,
      environment,
      users,
    )
  if (devices.length > 0) add('select no from devices where id in (?)', devices.map(uuidBuffer))
  if (tokens.length > 0)
    add(
      "select no from devices where app_no = ? and environment = ? and platform in ('ios', 'android', 'web') and token_hash in (?)",
      appNo,
      environment,
      tokens.map(tokenHash),
    )
  if (topics.length > 0) {
    const own = '(select no from topics where app_no = ? and environment = ? and name in (?))'
    add(`select device_no as no from topic_devices where topic_no in ${own}`, appNo, environment, topics)
    add(
      `select d.no from devices d join topic_users m on m.user_no = d.user_no where m.topic_no in ${own}`,
      appNo,
      environment,
      topics,
    )
  }
  if (reached.length > 0)
    // What was taken back has gone there, too.
    add(
      `select device_no as no from deliveries where notification_no in
         (select no from notifications where app_no = ? and environment = ? and id in (?))
       and (state < ${deliveryStates.skipped} or reason = ${reasons['taken-back'].code})`,
      appNo,
      environment,
      reached.map(uuidBuffer),
    )
  return all
}

const union = (parts: readonly Part[]): Part => ({
  sql: parts.map(({ sql }) => sql).join(' union '),
  values: parts.flatMap(({ values }) => values),
})

/**
 * A target as the tail of a statement over devices `v`: everything after `select …`. A device that several references
 * name comes once; a retired one does not come.
 * @returns `undefined` when nobody can be meant
 */
export function fromTarget(target: Target, where: Where): Part | undefined {
  const { any = [], all = [], none = [], platforms } = target
  const conditions: Part[] = [
    { sql: 'v.app_no = ? and v.environment = ? and v.retired_at is null', values: [where.appNo, where.environment] },
  ]
  if (platforms) conditions.push({ sql: 'v.platform in (?)', values: [platforms satisfies readonly Platform[]] })
  let source: Part = { sql: 'devices v', values: [] }
  const kinds = byKind(any)
  if (any.length > 0 && !kinds.everyone) {
    const parts = branches(kinds, where)
    if (parts.length === 0) return undefined
    const named = union(parts)
    source = { sql: `(${named.sql}) named join devices v on v.no = named.no`, values: named.values }
  }
  // Each reference of `all` asks for itself; `everyone` asks nothing.
  for (const text of all) {
    const one = byKind([text])
    if (one.everyone) continue
    const parts = branches(one, where)
    if (parts.length === 0) return undefined
    const named = union(parts)
    conditions.push({ sql: `v.no in (${named.sql})`, values: named.values })
  }
  const unwanted = byKind(none)
  if (unwanted.everyone) return undefined
  for (const part of branches(unwanted, where))
    conditions.push({ sql: `v.no not in (${part.sql})`, values: part.values })
  return {
    sql: `from ${source.sql} where ${conditions.map(({ sql }) => sql).join(' and ')}`,
    values: [...source.values, ...conditions.flatMap(({ values }) => values)],
  }
}

/** The next devices of a target, in the order of their numbers. */
export async function targetDevices(
  tx: Pick<Tx, 'rows'>,
  target: Target,
  where: Where,
  after: number,
  limit: number,
): Promise<number[]> {
  const from = fromTarget(target, where)
  if (!from) return []
  const rows = await tx.rows<{ no: number }>(`select v.no ${from.sql} and v.no > ? order by v.no limit ?`, [
    ...from.values,
    after,
    limit,
  ])
  return rows.map(({ no }) => no)
}

/** The devices of a target that names a few people, whole: they are about to be rung. */
export async function personalDevices(
  tx: Pick<Tx, 'rows'>,
  target: Target,
  where: Where,
  limit: number,
): Promise<BlockDevice[]> {
  const from = directly(target, where) ?? fromTarget(target, where)
  if (!from) return []
  const rows = await tx.rows<RawBlockDevice>(`select ${blockDeviceColumns} ${from.sql} limit ?`, [
    ...from.values,
    limit,
  ])
  return rows.map(blockDeviceOf).sort((a, b) => a.no - b.no)
}

/** What most programs send to, one person or one token, asked without a table in between: a third less to wait for. */
function directly({ any = [], all = [], none = [], platforms }: Target, where: Where): Part | undefined {
  if (all.length > 0 || none.length > 0 || platforms) return undefined
  const { users, tokens } = byKind(any)
  const { appNo, environment } = where
  if (users.length === any.length)
    return {
      sql: `from users u join devices v on v.user_no = u.no
            where u.app_no = ? and u.environment = ? and u.name in (?) and v.retired_at is null`,
      values: [appNo, environment, users],
    }
  if (tokens.length === any.length)
    return {
      sql: `from devices v where v.app_no = ? and v.environment = ? and v.platform in ('ios', 'android', 'web')
            and v.token_hash in (?) and v.retired_at is null`,
      values: [appNo, environment, tokens.map(tokenHash)],
    }
  return undefined
}

export async function countTarget(tx: Pick<Tx, 'rows'>, target: Target, where: Where): Promise<number> {
  const from = fromTarget(target, where)
  if (!from) return 0
  const [row] = await tx.rows<{ count: number }>(`select count(*) as count ${from.sql}`, [...from.values])
  return row?.count ?? 0
}

/** Whether a target names people, devices and tokens one by one, so few that they can be looked up at once. */
export const isPersonal = ({ any = [], all = [], none = [] }: Target): boolean =>
  any.length > 0 &&
  any.length + all.length + none.length <= 200 &&
  [...any, ...all, ...none].every((text) => /^(?:user|device|token):/.test(text))
