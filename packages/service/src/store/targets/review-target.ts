import { type Environment, isUuid, type Mode, type Platform, type Target, uuidFromBytes } from '@zbell/core'
import type { BlockDevice } from '../../engine/work.ts'
import { uuidBuffer } from '../columns.ts'
import type { Reader } from '../database.ts'
import { loadBlockDevices } from '../devices/load-block-devices.ts'
import { isNamed, nameAll, type Part } from './named-devices.ts'
import { isReachable } from './reachable.ts'
import type { TargetGroup } from './tally-target.ts'
import { targetParts } from './target-devices.ts'

type Where = { readonly appNo: number; readonly environment: Environment }

type Sought = {
  readonly platform: Platform
  /** Devices of this person only. */
  readonly user: string | undefined
  readonly mode: Mode
}

/**
 * Who could stand for all: a few devices of a platform that would be rung.
 * @param parts where to look, as tails of statements over devices `v`
 */
export async function sampleDevices(
  database: Reader,
  parts: readonly Part[],
  where: Where,
  { platform, user, mode }: Sought,
): Promise<(BlockDevice & { readonly user: string | null })[]> {
  const ofUser =
    user === undefined ? '' : 'and v.user_no = (select no from users where app_no = ? and environment = ? and name = ?)'
  const rows: { no: number; user: string | null }[] = []
  for (const { sql, values } of parts) {
    // Not in any order: whoever is found first stands for all, and nobody has to be found to be put in order.
    rows.push(
      ...(await database.rows<{ no: number; user: string | null }>(
        `select v.no, (select name from users where no = v.user_no) as user ${sql}
           and v.platform = ? and ${isReachable(mode)} ${ofUser} limit ?`,
        [...values, platform, ...(user === undefined ? [] : [where.appNo, where.environment, user]), sampled],
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
  // A device that the target names twice is listed once.
  const found = new Map<
    string,
    { readonly device: string; readonly user: string | null; readonly platform: Platform }
  >()
  for (const { sql, values } of await targetParts(database, target, where)) {
    const rows = await database.rows<{ id: Buffer; user: string | null; platform: Platform }>(
      `select v.id, v.platform, (select name from users where no = v.user_no) as user ${sql}
         and v.permission = ? and v.muted = ? limit ?`,
      [...values, which.permission, which.muted, limit],
    )
    for (const { id, ...rest } of rows) found.set(uuidFromBytes(id), { device: uuidFromBytes(id), ...rest })
    if (found.size >= limit) break
  }
  return [...found.values()].slice(0, limit)
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
