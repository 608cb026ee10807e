import {
  type Environment,
  isUuid,
  type Permission,
  type Platform,
  permissions,
  type Target,
  uuidFromBytes,
} from '@zbell/core'
import { uuidBuffer } from '../columns.ts'
import type { Reader } from '../database.ts'
import type { BlockDevice } from '../devices/load-block-devices.ts'
import { loadBlockDevices } from '../devices/load-block-devices.ts'
import { isNamed, nameAll } from '../work/named-devices.ts'
import { targetParts } from '../work/target-devices.ts'

type Where = { readonly appNo: number; readonly environment: Environment }

/** Devices of a target that a decision does not tell apart. */
export type TargetGroup = {
  readonly platform: Platform
  readonly permission: Permission
  readonly muted: boolean
  readonly devices: number
}

/** What a device can be, each counted by itself: a table of groups that is filled row by row takes the server twice as long. */
const cases = permissions.flatMap((permission) => [false, true].map((muted) => ({ permission, muted })))
const counted = cases
  .map(({ permission, muted }, i) => `sum(v.permission = '${permission}' and v.muted = ${muted ? 1 : 0}) as case${i}`)
  .join(', ')

export async function groupTarget(database: Reader, target: Target, where: Where): Promise<TargetGroup[]> {
  type Raw = { readonly platform: Platform } & { readonly [name: string]: string | number }
  const found = await Promise.all(
    (await targetParts(database, target, where)).map(({ sql, values }) =>
      database.rows<Raw>(`select v.platform, ${counted} ${sql} group by v.platform`, [...values]),
    ),
  )
  const groups = new Map<string, TargetGroup>()
  for (const row of found.flat())
    for (const [i, one] of cases.entries()) {
      const devices = Number(row[`case${i}`])
      const name = `${row.platform} ${i}`
      if (devices > 0)
        groups.set(name, { ...one, platform: row.platform, devices: devices + (groups.get(name)?.devices ?? 0) })
    }
  return [...groups.values()]
}

/** Of a target, those who let themselves be rung; a `wake` asks no leave. */
const reachable = (wake: boolean) => (wake ? '' : "and v.permission = 'granted' and not v.muted")

/** Those of whom something is not known that the texts want to say. */
type Lacking = { readonly names: readonly string[]; readonly wake: boolean }

/** Numbers of attributes; a name that no attribute has is known of nobody. */
async function lackingOne(database: Reader, { appNo, environment }: Where, names: readonly string[]): Promise<string> {
  if (names.length === 0) return 'false'
  const rows = await database.rows<{ no: number }>(
    'select no from attributes where app_no = ? and environment = ? and name in (?)',
    [appNo, environment, names],
  )
  if (rows.length < names.length) return 'true'
  const numbers = rows.map(({ no }) => no).join(',')
  return `(select count(*) from user_attributes a where a.user_no = v.user_no and a.attribute_no in (${numbers})) < ${names.length}`
}

/** How many people would be rung; a device that is nobody's counts as one of its own. */
export async function countPeople(database: Reader, target: Target, where: Where, lacking: Lacking): Promise<number> {
  const parts = await targetParts(database, target, where)
  if (parts.length === 0) return 0
  const lacks = await lackingOne(database, where, lacking.names)
  const both = `${reachable(lacking.wake)} ${lacks === 'false' ? '' : `and not (${lacks})`}`
  const person = 'coalesce(cast(v.user_no as signed), -cast(v.no as signed))'
  const [one] = parts
  const [row] =
    parts.length === 1
      ? await database.rows<{ people: number }>(`select count(distinct ${person}) as people ${one!.sql} ${both}`, [
          ...one!.values,
        ])
      : await database.rows<{ people: number }>(
          `select count(distinct person) as people from (${parts
            .map(({ sql }) => `select ${person} as person ${sql} ${both}`)
            .join(' union all ')}) found`,
          parts.flatMap(({ values }) => values),
        )
  return row?.people ?? 0
}

/** How many devices that would be rung belong to somebody who lacks at least one of these attributes, by platform. */
export async function countLackingOne(
  database: Reader,
  target: Target,
  where: Where,
  names: readonly string[],
): Promise<ReadonlyMap<Platform, number>> {
  const counts = new Map<Platform, number>()
  if (names.length === 0) return counts
  const lacks = await lackingOne(database, where, names)
  const found = await Promise.all(
    (await targetParts(database, target, where)).map(({ sql, values }) =>
      database.rows<{ platform: Platform; devices: number }>(
        `select v.platform, count(*) as devices ${sql} ${reachable(false)} and ${lacks} group by v.platform`,
        [...values],
      ),
    ),
  )
  for (const { platform, devices } of found.flat()) counts.set(platform, (counts.get(platform) ?? 0) + devices)
  return counts
}

/** For each of these attributes, how many devices that would be rung belong to somebody who lacks it. */
export async function countLacking(
  database: Reader,
  target: Target,
  where: Where,
  names: readonly string[],
): Promise<{ readonly name: string; readonly devices: number }[]> {
  return Promise.all(
    names.map(async (name) => {
      const counts = await countLackingOne(database, target, where, [name])
      return { name, devices: [...counts.values()].reduce((sum, count) => sum + count, 0) }
    }),
  )
}

/** Who could stand for all: a few devices of a platform that would be rung. */
export async function sampleDevices(
  database: Reader,
  target: Target,
  where: Where,
  platform: Platform,
  user: string | undefined,
  wake: boolean,
): Promise<(BlockDevice & { readonly user: string | null })[]> {
  const ofUser =
    user === undefined ? '' : 'and v.user_no = (select no from users where app_no = ? and environment = ? and name = ?)'
  const rows: { no: number; user: string | null }[] = []
  for (const { sql, values } of await targetParts(database, { ...target, platforms: [platform] }, where)) {
    // Not in any order: whoever is found first stands for all, and nobody has to be found to be put in order.
    rows.push(
      ...(await database.rows<{ no: number; user: string | null }>(
        `select v.no, (select name from users where no = v.user_no) as user ${sql} ${reachable(wake)} ${ofUser} limit ?`,
        [...values, ...(user === undefined ? [] : [where.appNo, where.environment, user]), sampled],
      )),
    )
    if (rows.length >= sampled) break
  }
  const users = new Map(rows.map(({ no, user: name }) => [no, name]))
  const devices = await loadBlockDevices(
    database,
    rows.map(({ no }) => no),
  )
  return devices.map((device) => ({ ...device, user: users.get(device.no) ?? null }))
}

/** So many are looked at. */
const sampled = 20

/** Devices that the target names and that have one of these properties. */
export async function listLeftOut(
  database: Reader,
  target: Target,
  where: Where,
  which: Pick<TargetGroup, 'permission' | 'muted'>,
  limit: number,
): Promise<{ readonly device: string; readonly user: string | null; readonly platform: Platform }[]> {
  const found: { readonly device: string; readonly user: string | null; readonly platform: Platform }[] = []
  for (const { sql, values } of await targetParts(database, target, where)) {
    const rows = await database.rows<{ id: Buffer; user: string | null; platform: Platform }>(
      `select v.id, v.platform, (select name from users where no = v.user_no) as user ${sql}
         and v.permission = ? and v.muted = ? limit ?`,
      [...values, which.permission, which.muted, limit - found.length],
    )
    found.push(...rows.map(({ id, ...rest }) => ({ device: uuidFromBytes(id), ...rest })))
    if (found.length >= limit) break
  }
  return found
}

/** Whether a target names a device. */
export async function targetHas(database: Reader, target: Target, where: Where, deviceId: string): Promise<boolean> {
  if (!isUuid(deviceId)) return false
  const { any, all, none } = await nameAll(database, target, where)
  const conditions = [
    ...(target.any === undefined ? [] : [isNamed(any)]),
    ...all.map(isNamed),
    `not ${isNamed(none)}`,
    ...(target.platforms ? [`v.platform in (${target.platforms.map((one) => `'${one}'`).join(',')})`] : []),
  ]
  const rows = await database.rows(
    `select 1 from devices v where v.id = ? and v.app_no = ? and v.environment = ? and v.retired_at is null
       and ${conditions.join(' and ')}`,
    [uuidBuffer(deviceId), where.appNo, where.environment],
  )
  return rows.length > 0
}
