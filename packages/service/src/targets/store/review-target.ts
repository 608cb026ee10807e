import { isUuid, type Mode, type Platform, type Target, uuidFromBytes } from '@zbell/core'
import { type SQL, sql } from 'drizzle-orm'
import { allOf, type Reader, uuidBuffer, type Where } from '../../database/index.ts'
import type { BlockDevice } from '../../engine/index.ts'
import { loadBlockDevices } from '../../people/index.ts'
import { channelFacts, isReachable } from '../../segments/index.ts'
import { isNamed, nameAll } from './named-devices.ts'
import type { TargetGroup } from './tally-target.ts'
import { targetParts } from './target-devices.ts'

type Sought = {
  readonly platform: Platform
  readonly mode: Mode
  readonly channelNo: number | null
  readonly unserved: readonly Platform[]
}

/**
 * Who could stand for all: a few devices of a platform that would be rung.
 * @param parts where to look, as tails of statements over devices `v`
 */
export async function sampleDevices(
  database: Reader,
  parts: readonly SQL[],
  { platform, mode, channelNo, unserved }: Sought,
): Promise<(BlockDevice & { readonly user: string | null })[]> {
  const rows: { no: number; user: string | null }[] = []
  for (const part of parts) {
    // Not in any order: whoever is found first stands for all, and nobody has to be found to be put in order.
    rows.push(
      ...(await database.rows<{ no: number; user: string | null }>(
        sql`select v.no, (select name from users where no = v.user_no) as user ${part}
           and v.platform = ${platform} and ${isReachable(mode, channelNo, unserved)} limit ${sampled}`,
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
  which: Pick<TargetGroup, 'permission' | 'muted' | 'channelBlocked' | 'channelMuted'>,
  channelNo: number | null,
  limit: number,
): Promise<{ readonly device: string; readonly user: string | null; readonly platform: Platform }[]> {
  const ofChannel = channelFacts(channelNo)
  // A device that the target names twice is listed once.
  const found = new Map<
    string,
    { readonly device: string; readonly user: string | null; readonly platform: Platform }
  >()
  for (const part of await targetParts(database, target, where)) {
    const rows = await database.rows<{ id: Buffer; user: string | null; platform: Platform }>(
      sql`select v.id, v.platform, (select name from users where no = v.user_no) as user ${part}
         and v.permission = ${which.permission} and v.muted = ${which.muted}
         and ${ofChannel.blocked} = ${which.channelBlocked} and ${ofChannel.muted} = ${which.channelMuted} limit ${limit}`,
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
    sql`not ${isNamed(none)}`,
    ...(target.platforms ? [sql`v.platform in ${target.platforms}`] : []),
  ]
  const rows = await database.rows(
    sql`select 1 from devices v where v.id = ${uuidBuffer(deviceId)} and v.app_no = ${where.appNo}
      and v.environment = ${where.environment} and v.retired_at is null
       and ${allOf(conditions)}`,
  )
  return rows.length > 0
}
