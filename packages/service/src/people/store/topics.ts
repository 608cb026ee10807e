import { eq, type SQL, sql } from 'drizzle-orm'
import {
  build,
  commas,
  type Database,
  devices as devicesTable,
  incoming,
  leaveRows,
  now,
  type Scope,
  select,
  type Tx,
  topics as topicsTable,
  topicUsers,
  users as usersTable,
  uuidBuffer,
} from '../../database/index.ts'
import { noteEvent } from '../../devices/index.ts'

export type TopicRow = {
  readonly no: number
  readonly name: string
  readonly title: string | null
  readonly declared: boolean
  readonly devices: number
  readonly users: number
  readonly createdAt: Date
}

type StoredTopic = Omit<TopicRow, 'declared'> & { declared: number }
const columns = sql`t.no, t.name, t.title, t.declared, t.created_at as createdAt,
  coalesce(t.counted_devices, (select count(*) from topic_devices m where m.topic_no = t.no)) as devices,
  coalesce(t.counted_users, (select count(*) from topic_users m where m.topic_no = t.no)) as users`
const rowOf = (raw: StoredTopic): TopicRow => ({ ...raw, declared: raw.declared === 1 })
/** Topics `t` of an app and environment. */
const inScope = ({ app, environment }: Scope): SQL => sql`t.app_no = ${app.no} and t.environment = ${environment}`

/** In the order of their names. @param after the name of the last one before */
export async function listTopics(database: Database, scope: Scope, limit: number, after = ''): Promise<TopicRow[]> {
  const rows = await database.rows<StoredTopic>(
    sql`select ${columns} from topics t where ${inScope(scope)} and t.name > ${after} order by t.name limit ${limit}`,
  )
  return rows.map(rowOf)
}

export async function findTopic(database: Database, scope: Scope, name: string): Promise<TopicRow | undefined> {
  const [row] = await database.rows<StoredTopic>(
    sql`select ${columns} from topics t where ${inScope(scope)} and t.name = ${name}`,
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
    build
      .insert(topicsTable)
      .values({ appNo: scope.app.no, environment: scope.environment, name, title, declared: true, createdAt: now })
      .onDuplicateKeyUpdate({ set: { title: incoming(topicsTable.title), declared: true } }),
  )
}

export async function deleteTopic(database: Database, no: number): Promise<void> {
  await database.transact(async (tx) => {
    await tx.change(build.delete(topicsTable).where(eq(topicsTable.no, no)))
    await leaveRows(tx, 'topic', [no])
  })
}

/** So many topics one device may have joined. */
export const maxTopicsOfDevice = 200
/** So many topics that nobody declared an app and environment may have. */
export const maxUndeclared = 10_000

/** Whether devices may make another one. */
export async function hasCapacityForTopics(database: Database, scope: Scope): Promise<boolean> {
  const [row] = await database.rows<{ count: number }>(
    sql`select count(*) as count from (select 1 from topics t where ${inScope(scope)} and not t.declared limit ${maxUndeclared}) as some`,
  )
  return (row?.count ?? 0) < maxUndeclared
}

/** Topics that devices made by joining, and that everybody has left. */
export async function pruneTopics(database: Database): Promise<void> {
  await database.change(
    build.delete(topicsTable).where(
      sql`not ${topicsTable.declared} and ${topicsTable.createdAt} < utc_timestamp(3) - interval 1 day
          and not exists (select 1 from topic_devices m where m.topic_no = topics.no) and not exists (select 1
          from topic_users m where m.topic_no = topics.no)`,
    ),
  )
}

/** The topic's number; made when nobody joined it before. */
export async function ensureTopic(tx: Pick<Tx, 'change'>, scope: Scope, name: string): Promise<number> {
  const { insertId } = await tx.change(
    build
      .insert(topicsTable)
      .values({ appNo: scope.app.no, environment: scope.environment, name, declared: false, createdAt: now })
      .onDuplicateKeyUpdate({ set: { no: sql`last_insert_id(${topicsTable.no})` } }),
  )
  return insertId
}

type Membership = { readonly table: SQL; readonly member: SQL }
const ofUsers: Membership = { table: sql`topic_users`, member: sql`user_no` }
const ofDevices: Membership = { table: sql`topic_devices`, member: sql`device_no` }

/** Joining twice is joining once. @returns how many are new */
export async function joinTopic(
  tx: Pick<Tx, 'change'>,
  topicNo: number,
  members: { readonly users: readonly number[]; readonly devices: readonly number[] },
): Promise<number> {
  const join = async ({ table, member }: Membership, numbers: readonly number[]) => {
    if (numbers.length === 0) return 0
    const rows = numbers.map((no) => sql`(${topicNo}, ${no}, utc_timestamp(3))`)
    const joined = sql`insert ignore into ${table} (topic_no, ${member}, joined_at) values ${commas(rows)}`
    return (await tx.change(joined)).affectedRows
  }
  return (await join(ofUsers, members.users)) + (await join(ofDevices, members.devices))
}

/** @returns how many had joined */
export async function leaveTopic(
  tx: Pick<Tx, 'change'>,
  topicNo: number,
  members: { readonly users: readonly number[]; readonly devices: readonly number[] },
): Promise<number> {
  const leave = async ({ table, member }: Membership, numbers: readonly number[]) => {
    if (numbers.length === 0) return 0
    const left = sql`delete from ${table} where topic_no = ${topicNo} and ${member} in ${numbers}`
    return (await tx.change(left)).affectedRows
  }
  return (await leave(ofUsers, members.users)) + (await leave(ofDevices, members.devices))
}

/**
 * A device joins or leaves by itself; that is written into its record.
 * @returns false when it has joined as many as it may
 */
export async function changeOwnTopic(
  database: Database,
  topic: { readonly no: number; readonly name: string },
  device: { readonly no: number; readonly userNo: number | null },
  joins: boolean,
): Promise<boolean> {
  return database.transact(async (tx) => {
    if (joins) {
      const others = await tx.rows(
        sql`select 1 from topic_devices where device_no = ${device.no} and topic_no <> ${topic.no} limit ${maxTopicsOfDevice}`,
      )
      if (others.length === maxTopicsOfDevice) return false
    }
    // Leaving means not to be rung any more: whether the device joined or its user.
    const users = joins || device.userNo === null ? [] : [device.userNo]
    const members = { devices: [device.no], users }
    const changed = joins ? await joinTopic(tx, topic.no, members) : await leaveTopic(tx, topic.no, members)
    if (changed > 0) await noteEvent(tx, device.no, joins ? 'joined' : 'left', topic.name)
    return true
  })
}

/** The topics that a device joined, or its user. */
export const topicsOf = (
  database: Database,
  device: { readonly no: number | null; readonly userNo: number | null },
): Promise<{ name: string; joinedAt: Date }[]> =>
  database.rows(
    sql`select t.name, min(m.joinedAt) as joinedAt from topics t join (
       select topic_no, joined_at as joinedAt from topic_devices where device_no = ${device.no}
       union all select topic_no, joined_at from topic_users where user_no = ${device.userNo}
     ) m on m.topic_no = t.no group by t.no order by t.name`,
  )

/** The names of the topics that each of these people joined. */
export async function topicsOfUsers(
  database: Pick<Database, 'rows'>,
  userNos: readonly number[],
): Promise<ReadonlyMap<number, string[]>> {
  const topics = new Map<number, string[]>()
  if (userNos.length === 0) return topics
  const rows = await select(
    database,
    { userNo: topicUsers.userNo, name: topicsTable.name },
    sql`from ${topicUsers} force index (by_user)
        straight_join ${topicsTable} on ${topicsTable.no} = ${topicUsers.topicNo}
        where ${topicUsers.userNo} in ${userNos} order by ${topicsTable.name}`,
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
      : await select(
          database,
          { no: usersTable.no, name: usersTable.name },
          sql`from ${usersTable} where ${usersTable.appNo} = ${app.no} and ${usersTable.environment} = ${environment}
            and ${usersTable.name} in ${given.users}`,
        )
  const devices =
    given.devices.length === 0
      ? []
      : await select(
          database,
          { no: devicesTable.no, id: devicesTable.id },
          sql`from ${devicesTable} where ${devicesTable.appNo} = ${app.no}
            and ${devicesTable.environment} = ${environment} and ${devicesTable.id} in ${given.devices.map(uuidBuffer)}`,
        )
  const here = new Set([...users.map(({ name }) => `user:${name}`), ...devices.map(({ id }) => `device:${id}`)])
  const named = [...given.users.map((name) => `user:${name}`), ...given.devices.map((id) => `device:${id}`)]
  return {
    users: users.map(({ no }) => no),
    devices: devices.map(({ no }) => no),
    unknown: named.filter((name) => !here.has(name)),
  }
}
