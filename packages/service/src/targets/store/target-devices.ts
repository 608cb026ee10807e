import { createHash } from 'node:crypto'
import { type Platform, parseTarget, platforms, type Target } from '@zbell/core'
import { type SQL, sql } from 'drizzle-orm'
import { allOf, type Reader, type Where } from '../../database/index.ts'
import type { BlockDevice } from '../../engine/index.ts'
import { blockDeviceColumns, blockDeviceOf, type RawBlockDevice } from '../../people/index.ts'
import { isNamed, type Named, type NamedTarget, nameAll, sourcesOf, without } from './named-devices.ts'

/**
 * A target as tails of statements over devices `v`: everything after `select …`. Together they find each device that is meant,
 * and no retired one. Of several that name people or topics, two may find the same.
 */
export async function targetParts(tx: Reader, target: Target, where: Where): Promise<SQL[]> {
  const named = await nameAll(tx, target, where)
  if (named.none.everyone) return []
  const driver = driverOf(target, named)
  const { joins, conditions: left } = without(named.none)
  const conditions = allOf([...wantedOf(target, named, driver), ...left])
  // What was found by name in this app and environment has its devices there: to ask again would cost a look at each row.
  if (driver)
    return sourcesOf(driver).map(
      (source) => sql`from ${source.tables} ${joins} where ${source.where} and ${conditions}`,
    )
  const { appNo, environment } = where
  return platformsIn(target).map(
    (platform) => sql`from devices v force index (by_platform) ${joins}
      where v.app_no = ${appNo} and v.environment = ${environment} and v.platform = ${platform} and ${conditions}`,
  )
}

/** All parts as one: each device once. @param columns among them the device's number, where parts may find the same */
export const unionOf = (parts: readonly SQL[], columns: SQL): SQL =>
  sql.join(
    parts.map((part) => sql`select ${columns} ${part}`),
    sql` union `,
  )

export const platformsIn = ({ platforms: some }: Target): readonly Platform[] => some ?? platforms

/** A target as a condition on a device `v` of its app and environment. */
export async function targetConditions(tx: Reader, target: Target, where: Where): Promise<SQL> {
  const named = await nameAll(tx, target, where)
  return allOf([...wantedOf(target, named, undefined), sql`not ${isNamed(named.none)}`])
}

/** What is asked of a device `v`, apart from those that are left out. @param driver by what they are found; not asked again */
const wantedOf = (target: Target, { any, all }: NamedTarget, driver: Named | undefined): SQL[] => [
  sql`v.retired_at is null`,
  ...(target.platforms ? [sql`v.platform in ${target.platforms}`] : []),
  ...(target.any === undefined || any.everyone || driver === any ? [] : [isNamed(any)]),
  ...all.filter((one) => !one.everyone && one !== driver).map(isNamed),
]

/** Whether more than so many devices, topic memberships or deliveries have to be looked at to find a target's devices. */
export async function coversMoreThan(tx: Reader, target: Target, where: Where, most: number): Promise<boolean> {
  const driver = driverOf(target, await nameAll(tx, target, where))
  // No number is null: a list that is empty finds nothing.
  const list = (numbers: readonly number[]) => (numbers.length === 0 ? [null] : numbers)
  const everyDevice = sql`devices force index (by_platform)
    where app_no = ${where.appNo} and environment = ${where.environment} and platform in ${platformsIn(target)}`
  const walked: SQL[] = driver
    ? [
        sql`topic_users where topic_no in ${list(driver.topics)}`,
        sql`topic_devices where topic_no in ${list(driver.topics)}`,
        sql`deliveries where notification_no in ${list(driver.reached)}`,
        ...(driver.rules.some(({ search }) => search.entries === undefined) ? [everyDevice] : []),
      ]
    : [everyDevice]
  const counts = await Promise.all(
    walked.map((rows) =>
      tx.rows<{ count: number }>(sql`select count(*) as count from (select 1 from ${rows} limit ${most + 1}) walked`),
    ),
  )
  const lookedUp = (driver?.rules ?? []).reduce((sum, { search }) => sum + (search.entries ?? 0), 0)
  return counts.flat().reduce((sum, { count }) => sum + count, lookedUp) > most
}

/** By what the devices are found, where it is not by walking through all: whatever names the fewest, as far as that is plain. */
function driverOf(target: Target, { any, all }: NamedTarget): Named | undefined {
  const candidates = [...(target.any === undefined ? [] : [any]), ...all].filter(({ everyone }) => !everyone)
  const isFew = ({ topics, reached, rules }: Named) => topics.length === 0 && reached.length === 0 && rules.length === 0
  // A rule is asked of every device; whatever else is named has fewer.
  const isListed = ({ rules }: Named) => rules.length === 0
  return candidates.find(isFew) ?? candidates.find(isListed) ?? candidates[0]
}

/** A look finds so many devices at most; what is behind them is found by the next. */
export const lookSize = 1_000_000

/** The next devices of a target, in the order of their numbers. @param also what else is asked of each @returns all that there are, or exactly so many */
export async function targetDevices(
  tx: Reader,
  target: Target,
  where: Where,
  after: number,
  limit: number,
  also = sql`true`,
): Promise<number[]> {
  const parts = await targetParts(tx, target, where)
  const found = await Promise.all(
    parts.map(async (part) =>
      (
        await tx.rows<{ no: number }>(
          sql`select v.no ${part} and ${also} and v.no > ${after} order by v.no limit ${limit}`,
        )
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
    parts.map((part) => tx.rows<RawBlockDevice>(sql`select ${blockDeviceColumns} ${part} limit ${limit}`)),
  )
  return [...new Map(found.flat().map((raw) => [raw.no, blockDeviceOf(raw)])).values()]
    .sort((a, b) => a.no - b.no)
    .slice(0, limit)
}

/** What most programs send to, one person or one token, asked without a table in between: a third less to wait for. */
function directly(target: Target, where: Where): SQL | undefined {
  const { any, all, none } = parseTarget(target)
  if (all.length > 0 || none.length > 0 || target.platforms || target.rule !== undefined) return undefined
  const users = any.flatMap((one) => (one.is === 'user' ? [one.user] : []))
  const tokens = any.flatMap((one) => (one.is === 'token' ? [one.token] : []))
  const { appNo, environment } = where
  if (users.length === any.length)
    return sql`from users u join devices v on v.user_no = u.no
      where u.app_no = ${appNo} and u.environment = ${environment} and u.name in ${users} and v.retired_at is null`
  if (tokens.length === any.length) {
    const hashes = tokens.map((token) => createHash('sha256').update(token).digest())
    return sql`from devices v where v.app_no = ${appNo} and v.environment = ${environment}
      and v.platform in ('ios', 'android', 'web') and v.token_hash in ${hashes} and v.retired_at is null`
  }
  return undefined
}

export async function countTarget(tx: Reader, target: Target, where: Where): Promise<number> {
  const parts = await targetParts(tx, target, where)
  if (parts.length === 0) return 0
  const devices = unionOf(parts, sql`v.no`)
  const [row] = await tx.rows<{ count: number }>(sql`select count(*) as count from (${devices}) devices`)
  return row!.count
}

/** Whether a target names people, devices and tokens one by one, so few that they can be looked up at once. */
export function isPersonal(target: Target): boolean {
  const { any, all, none } = parseTarget(target)
  const every = [...any, ...all, ...none]
  return (
    target.rule === undefined &&
    any.length > 0 &&
    every.length <= 200 &&
    every.every(({ is }) => is === 'user' || is === 'device' || is === 'token')
  )
}
