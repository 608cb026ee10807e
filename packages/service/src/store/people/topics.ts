import { uuidFromBytes } from '@zbell/core'
import type { Scope } from '../apps/apps.ts'
import { uuidBuffer } from '../columns.ts'
import type { Database, Tx } from '../database.ts'
import { noteEvent } from '../devices/device-events.ts'

export type TopicRow = {
  readonly no: number
  readonly name: string
  readonly title: string | null
  readonly declared: boolean
  readonly devices: number
  readonly users: number
  readonly createdAt: Date
}

type Raw = Omit<TopicRow, 'declared'> & { declared: number }
const columns = `t.no, t.name, t.title, t.declared, t.created_at as createdAt,
  coalesce(t.counted_devices, (select count(*) from topic_devices m where m.topic_no = t.no)) as devices,
  coalesce(t.counted_users, (select count(*) from topic_users m where m.topic_no = t.no)) as users`
const rowOf = (raw: Raw): TopicRow => ({ ...raw, declared: raw.declared === 1 })
const inScope = ({ app, environment }: Scope) => [app.no, environment]

/** In the order of their names. @param after the name of the last one before */
export async function listTopics(database: Database, scope: Scope, limit: number, after = ''): Promise<TopicRow[]> {
  const rows = await database.rows<Raw>(
    `select ${columns} from topics t where t.app_no = ? and t.environment = ? and t.name > ? order by t.name limit ?`,
    [...inScope(scope), after, limit],
  )
  return rows.map(rowOf)
}

export async function findTopic(database: Database, scope: Scope, name: string): Promise<TopicRow | undefined> {
  const [row] = await database.rows<Raw>(
    `select ${columns} from topics t where t.app_no = ? and t.environment = ? and t.name = ?`,
    [...inScope(scope), name],
  )
  return row && rowOf(row)
}

/** Declares a topic; one that devices made by joining becomes declared. */
export async function declareTopic(
  database: Database,
  scope: Scope,
  name: string,
  title: string | null,
): Promise<void> {
  await database.change(
    `insert into topics (app_no, environment, name, title, declared, created_at) values (?, true, utc_timestamp(3))
     on duplicate key update title = value(title), declared = true`,
    [[...inScope(scope), name, title]],
  )
}

export async function deleteTopic(database: Database, no: number): Promise<void> {
  await database.transact(async (tx) => {
    for (const table of ['topic_devices', 'topic_users'])
      await tx.change(`delete from ${table} where topic_no = ?`, [no])
    await tx.change('delete from topics where no = ?', [no])
  })
}

/** The topic's number; made when nobody joined it before. */
export async function ensureTopic(tx: Pick<Tx, 'change'>, scope: Scope, name: string): Promise<number> {
  const { insertId } = await tx.change(
    `insert into topics (app_no, environment, name, declared, created_at) values (?, false, utc_timestamp(3))
     on duplicate key update no = last_insert_id(no)`,
    [[...inScope(scope), name]],
  )
  return insertId
}

/** Joining twice is joining once. @returns how many are new */
export async function joinTopic(
  tx: Pick<Tx, 'change'>,
  topicNo: number,
  members: { readonly users: readonly number[]; readonly devices: readonly number[] },
): Promise<number> {
  const join = async (table: string, column: string, numbers: readonly number[]) => {
    if (numbers.length === 0) return 0
    const rows = numbers.map((no) => `(${topicNo},${no},utc_timestamp(3))`).join(',')
    return (await tx.change(`insert ignore into ${table} (topic_no, ${column}, joined_at) values ${rows}`)).affectedRows
  }
  return (
    (await join('topic_users', 'user_no', members.users)) + (await join('topic_devices', 'device_no', members.devices))
  )
}

/** @returns how many had joined */
export async function leaveTopic(
  tx: Pick<Tx, 'change'>,
  topicNo: number,
  members: { readonly users: readonly number[]; readonly devices: readonly number[] },
): Promise<number> {
  const leave = async (table: string, column: string, numbers: readonly number[]) => {
    if (numbers.length === 0) return 0
    return (
      await tx.change(`delete from ${table} where topic_no = ? and ${column} in (${numbers.join(',')})`, [topicNo])
    ).affectedRows
  }
  return (
    (await leave('topic_users', 'user_no', members.users)) +
    (await leave('topic_devices', 'device_no', members.devices))
  )
}

/** A device joins or leaves by itself; that is written into its record. @returns false when it changed nothing */
export async function changeOwnTopic(
  database: Database,
  topic: { readonly no: number; readonly name: string },
  device: { readonly no: number; readonly userNo: number | null },
  joins: boolean,
): Promise<boolean> {
  return database.transact(async (tx) => {
    // Leaving means not to be rung any more: whether the device joined or its user.
    const users = joins || device.userNo === null ? [] : [device.userNo]
    const members = { devices: [device.no], users }
    const changed = joins ? await joinTopic(tx, topic.no, members) : await leaveTopic(tx, topic.no, members)
    if (changed > 0) await noteEvent(tx, device.no, joins ? 'joined' : 'left', topic.name)
    return changed > 0
  })
}

/** The topics that a device joined, or its user. */
export const topicsOf = (
  database: Database,
  device: { readonly no: number | null; readonly userNo: number | null },
): Promise<{ name: string; joinedAt: Date }[]> =>
  database.rows(
    `select t.name, min(m.joinedAt) as joinedAt from topics t join (
       select topic_no, joined_at as joinedAt from topic_devices where device_no = ?
       union all select topic_no, joined_at from topic_users where user_no = ?
     ) m on m.topic_no = t.no group by t.no order by t.name`,
    [device.no, device.userNo],
  )

/** The names of the topics that each of these people joined. */
export async function topicsOfUsers(
  database: Pick<Database, 'rows'>,
  userNos: readonly number[],
): Promise<ReadonlyMap<number, string[]>> {
  const topics = new Map<number, string[]>()
  if (userNos.length === 0) return topics
  const rows = await database.rows<{ userNo: number; name: string }>(
    `select m.user_no as userNo, t.name from topic_users m join topics t on t.no = m.topic_no
     where m.user_no in (?) order by t.name`,
    [userNos],
  )
  for (const { userNo, name } of rows) topics.set(userNo, [...(topics.get(userNo) ?? []), name])
  return topics
}

/** The numbers of users by name and devices by id; what is not here is named. */
export async function membersByName(
  database: Database,
  { app, environment }: Scope,
  given: { readonly users: readonly string[]; readonly devices: readonly string[] },
): Promise<{ users: number[]; devices: number[]; unknown: string[] }> {
  const users =
    given.users.length === 0
      ? []
      : await database.rows<{ no: number; name: string }>(
          'select no, name from users where app_no = ? and environment = ? and name in (?)',
          [app.no, environment, given.users],
        )
  const devices =
    given.devices.length === 0
      ? []
      : await database.rows<{ no: number; id: Buffer }>(
          'select no, id from devices where app_no = ? and environment = ? and id in (?)',
          [app.no, environment, given.devices.map(uuidBuffer)],
        )
  const here = new Set([
    ...users.map(({ name }) => `user:${name}`),
    ...devices.map(({ id }) => `device:${uuidFromBytes(id)}`),
  ])
  const named = [...given.users.map((name) => `user:${name}`), ...given.devices.map((id) => `device:${id}`)]
  return {
    users: users.map(({ no }) => no),
    devices: devices.map(({ no }) => no),
    unknown: named.filter((name) => !here.has(name)),
  }
}
