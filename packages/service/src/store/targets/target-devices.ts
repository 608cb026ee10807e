import { createHash } from 'node:crypto'
import { type Platform, parseReference, platforms, type Reference, type Target } from '@zbell/core'
import type { BlockDevice } from '../../engine/work.ts'
import type { Reader } from '../database.ts'
import { blockDeviceColumns, blockDeviceOf, type RawBlockDevice } from '../devices/load-block-devices.ts'
import {
  isNamed,
  type Named,
  type NamedTarget,
  nameAll,
  type Part,
  sourcesOf,
  type Where,
  without,
} from './named-devices.ts'

/**
 * A target as tails of statements over devices `v`: everything after `select …`. Together they find each device that is meant,
 * and no retired one. Of several that name people or topics, two may find the same.
 */
export async function targetParts(tx: Reader, target: Target, where: Where): Promise<Part[]> {
  const named = await nameAll(tx, target, where)
  if (named.none.everyone) return []
  const driver = driverOf(target, named)
  const { joins, conditions: left } = without(named.none)
  const conditions = [...wantedOf(target, named, driver), ...left].join(' and ')
  // What was found by name in this app and environment has its devices there: to ask again would cost a look at each row.
  if (driver)
    return sourcesOf(driver).map((source) => ({
      sql: `from ${source.tables} ${joins} where ${source.where} and ${conditions}`,
      values: [],
    }))
  return platformsIn(target).map((platform) => ({
    sql: `from devices v force index (by_platform) ${joins}
          where v.app_no = ? and v.environment = ? and v.platform = '${platform}' and ${conditions}`,
    values: [where.appNo, where.environment],
  }))
}

/** All parts as one: each device once. @param columns among them the device's number, where parts may find the same */
export const unionOf = (parts: readonly Part[], columns: string): Part => ({
  sql: parts.map(({ sql }) => `select ${columns} ${sql}`).join(' union '),
  values: parts.flatMap(({ values }) => values),
})

export const platformsIn = ({ platforms: some }: Target): readonly Platform[] => some ?? platforms

/** A target as a condition on a device `v` of its app and environment. */
export async function targetConditions(tx: Reader, target: Target, where: Where): Promise<string> {
  const named = await nameAll(tx, target, where)
  return [...wantedOf(target, named, undefined), `not ${isNamed(named.none)}`].join(' and ')
}

/** What is asked of a device `v`, apart from those that are left out. @param driver by what they are found; not asked again */
const wantedOf = (target: Target, { any, all }: NamedTarget, driver: Named | undefined): string[] => [
  'v.retired_at is null',
  ...(target.platforms ? [`v.platform in (${target.platforms.map((one) => `'${one}'`).join(',')})`] : []),
  ...(target.any === undefined || any.everyone || driver === any ? [] : [isNamed(any)]),
  ...all.filter((one) => !one.everyone && one !== driver).map(isNamed),
]

/** Whether more than so many devices, topic memberships or deliveries have to be looked at to find a target's devices. */
export async function coversMoreThan(tx: Reader, target: Target, where: Where, most: number): Promise<boolean> {
  const driver = driverOf(target, await nameAll(tx, target, where))
  const list = (numbers: readonly number[]) => numbers.join(',') || 'null'
  const walked: Part[] = driver
    ? [
        ...['topic_users', 'topic_devices'].map((table) => ({
          sql: `${table} where topic_no in (${list(driver.topics)})`,
          values: [],
        })),
        { sql: `deliveries where notification_no in (${list(driver.reached)})`, values: [] },
      ]
    : [
        {
          sql: 'devices force index (by_platform) where app_no = ? and environment = ? and platform in (?)',
          values: [where.appNo, where.environment, platformsIn(target)],
        },
      ]
  const counts = await Promise.all(
    walked.map(({ sql, values }) =>
      tx.rows<{ count: number }>(`select count(*) as count from (select 1 from ${sql} limit ?) walked`, [
        ...values,
        most + 1,
      ]),
    ),
  )
  return counts.flat().reduce((sum, { count }) => sum + count, 0) > most
}

/** By what the devices are found, where it is not by walking through all: whatever names the fewest, as far as that is plain. */
function driverOf(target: Target, { any, all }: NamedTarget): Named | undefined {
  const candidates = [...(target.any === undefined ? [] : [any]), ...all].filter(({ everyone }) => !everyone)
  const isFew = ({ topics, reached }: Named) => topics.length === 0 && reached.length === 0
  return candidates.find(isFew) ?? candidates[0]
}

/** A look finds so many devices at most; what is behind them is found by the next. */
export const lookSize = 1_000_000

/** The next devices of a target, in the order of their numbers. @returns all that there are, or exactly so many */
export async function targetDevices(
  tx: Reader,
  target: Target,
  where: Where,
  after: number,
  limit: number,
): Promise<number[]> {
  const parts = await targetParts(tx, target, where)
  const found = await Promise.all(
    parts.map(async ({ sql, values }) =>
      (
        await tx.rows<{ no: number }>(`select v.no ${sql} and v.no > ? order by v.no limit ?`, [
          ...values,
          after,
          limit,
        ])
      ).map(({ no }) => no),
    ),
  )
  return inOrder(found.flat()).slice(0, limit)
}

/** In ascending order, each once. */
function inOrder(numbers: readonly number[]): number[] {
  const sorted = Float64Array.from(numbers).sort()
  return Array.from(sorted.filter((no, i) => no !== sorted[i - 1]))
}

/** The devices of a target that names a few people, whole: they are about to be rung. */
export async function personalDevices(tx: Reader, target: Target, where: Where, limit: number): Promise<BlockDevice[]> {
  const direct = directly(target, where)
  const parts = direct ? [direct] : await targetParts(tx, target, where)
  const found = await Promise.all(
    parts.map(({ sql, values }) =>
      tx.rows<RawBlockDevice>(`select ${blockDeviceColumns} ${sql} limit ?`, [...values, limit]),
    ),
  )
  return [...new Map(found.flat().map((raw) => [raw.no, blockDeviceOf(raw)])).values()]
    .sort((a, b) => a.no - b.no)
    .slice(0, limit)
}

/** What most programs send to, one person or one token, asked without a table in between: a third less to wait for. */
function directly({ any = [], all = [], none = [], platforms: some }: Target, where: Where): Part | undefined {
  if (all.length > 0 || none.length > 0 || some) return undefined
  const named = any.map(parseReference).filter((one): one is Reference => typeof one !== 'string')
  const users = named.flatMap((one) => (one.is === 'user' ? [one.user] : []))
  const tokens = named.flatMap((one) => (one.is === 'token' ? [one.token] : []))
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
      values: [appNo, environment, tokens.map((token) => createHash('sha256').update(token).digest())],
    }
  return undefined
}

export async function countTarget(tx: Reader, target: Target, where: Where): Promise<number> {
  const parts = await targetParts(tx, target, where)
  if (parts.length === 0) return 0
  const { sql, values } = unionOf(parts, 'v.no')
  const [row] = await tx.rows<{ count: number }>(`select count(*) as count from (${sql}) devices`, [...values])
  return row!.count
}

/** Whether a target names people, devices and tokens one by one, so few that they can be looked up at once. */
export const isPersonal = ({ any = [], all = [], none = [] }: Target): boolean =>
  any.length > 0 &&
  any.length + all.length + none.length <= 200 &&
  [...any, ...all, ...none].every((text) => /^(?:user|device|token):/.test(text))
