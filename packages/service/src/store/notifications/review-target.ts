import { type Environment, isUuid, type Permission, type Platform, type Target, uuidFromBytes } from '@zbell/core'
import { uuidBuffer } from '../columns.ts'
import type { Database } from '../database.ts'
import type { BlockDevice } from '../devices/load-block-devices.ts'
import { loadBlockDevices } from '../devices/load-block-devices.ts'
import { fromTarget } from '../work/target-devices.ts'

type Where = { readonly appNo: number; readonly environment: Environment }

/** Devices of a target that a decision does not tell apart. */
export type TargetGroup = {
  readonly platform: Platform
  readonly permission: Permission
  readonly muted: boolean
  readonly devices: number
}

export async function groupTarget(database: Database, target: Target, where: Where): Promise<TargetGroup[]> {
  const from = fromTarget(target, where)
  if (!from) return []
  const rows = await database.rows<Omit<TargetGroup, 'muted'> & { muted: number }>(
    `select v.platform, v.permission, v.muted, count(*) as devices ${from.sql} group by v.platform, v.permission, v.muted`,
    [...from.values],
  )
  return rows.map((row) => ({ ...row, muted: row.muted === 1 }))
}

/** Of a target, those who let themselves be rung; a `wake` asks no leave. */
const reachable = (wake: boolean) => (wake ? '' : "and v.permission = 'granted' and not v.muted")

/** How many people would be rung; a device that is nobody's counts as one of its own. */
export async function countPeople(database: Database, target: Target, where: Where, wake: boolean): Promise<number> {
  const from = fromTarget(target, where)
  if (!from) return 0
  const [row] = await database.rows<{ people: number }>(
    `select count(distinct coalesce(v.user_no, 0), if(v.user_no is null, v.no, 0)) as people ${from.sql} ${reachable(wake)}`,
    [...from.values],
  )
  return row?.people ?? 0
}

/** How many devices that would be rung belong to somebody who lacks one of these attributes. */
export async function countLacking(
  database: Database,
  target: Target,
  where: Where,
  names: readonly string[],
): Promise<{ readonly name: string; readonly devices: number }[]> {
  const from = fromTarget(target, where)
  if (!from) return []
  return Promise.all(
    names.map(async (name) => {
      const [row] = await database.rows<{ devices: number }>(
        `select count(*) as devices ${from.sql} ${reachable(false)} and not exists (
           select 1 from user_attributes a join attributes t on t.no = a.attribute_no
           where a.user_no = v.user_no and t.name = ?)`,
        [...from.values, name],
      )
      return { name, devices: row?.devices ?? 0 }
    }),
  )
}

/** Who could stand for all: the first devices of each platform that would be rung. */
export async function sampleDevices(
  database: Database,
  target: Target,
  where: Where,
  platform: Platform,
  user: string | undefined,
  wake: boolean,
): Promise<(BlockDevice & { readonly user: string | null })[]> {
  const from = fromTarget(target, where)
  if (!from) return []
  const ofUser =
    user === undefined ? '' : 'and v.user_no = (select no from users where app_no = ? and environment = ? and name = ?)'
  const rows = await database.rows<{ no: number; user: string | null }>(
    `select v.no, (select name from users where no = v.user_no) as user ${from.sql} ${reachable(wake)} and v.platform = ? ${ofUser}
     order by v.no limit 20`,
    [...from.values, platform, ...(user === undefined ? [] : [where.appNo, where.environment, user])],
  )
  const users = new Map(rows.map(({ no, user }) => [no, user]))
  const devices = await loadBlockDevices(
    database,
    rows.map(({ no }) => no),
  )
  return devices.map((device) => ({ ...device, user: users.get(device.no) ?? null }))
}

/** Devices that the target names and that have one of these properties. */
export async function listLeftOut(
  database: Database,
  target: Target,
  where: Where,
  which: Pick<TargetGroup, 'permission' | 'muted'>,
  limit: number,
): Promise<{ readonly device: string; readonly user: string | null; readonly platform: Platform }[]> {
  const from = fromTarget(target, where)
  if (!from) return []
  const rows = await database.rows<{ id: Buffer; user: string | null; platform: Platform }>(
    `select v.id, v.platform, (select name from users where no = v.user_no) as user ${from.sql}
       and v.permission = ? and v.muted = ? order by v.no limit ?`,
    [...from.values, which.permission, which.muted, limit],
  )
  return rows.map(({ id, ...rest }) => ({ device: uuidFromBytes(id), ...rest }))
}

/** Whether a target names a device. */
export async function targetHas(database: Database, target: Target, where: Where, deviceId: string): Promise<boolean> {
  const from = isUuid(deviceId) ? fromTarget(target, where) : undefined
  if (!from) return false
  const rows = await database.rows(`select 1 ${from.sql} and v.id = ? limit 1`, [...from.values, uuidBuffer(deviceId)])
  return rows.length > 0
}
