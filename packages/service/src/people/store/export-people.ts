import { sql } from 'drizzle-orm'
import {
  type Database,
  devices,
  type Scope,
  select,
  topics as table,
  topicDevices,
  topicUsers,
  users,
} from '../../database/index.ts'
import { attributesOf } from './attributes.ts'
import { topicsOfUsers } from './topics.ts'

/** Rows that are read at a time. */
const page = 1_000

/** Everybody with a name, oldest first, with what is known of them and the topics that they joined. */
export async function* exportUsers(database: Database, { app, environment }: Scope) {
  for (let after = 0; ; ) {
    const rows = await select(
      database,
      { no: users.no, user: users.name },
      sql`from ${users} where ${users.appNo} = ${app.no} and ${users.environment} = ${environment}
        and ${users.no} > ${after} and ${users.name} is not null
       order by ${users.no} limit ${page}`,
    )
    const numbers = rows.map(({ no }) => no)
    const attributes = await attributesOf(database, numbers)
    const topics = await topicsOfUsers(database, numbers)
    for (const { no, user } of rows) {
      after = no
      yield { user, attributes: attributes.get(no) ?? {}, topics: topics.get(no) ?? [] }
    }
    if (rows.length < page) return
  }
}

/** Every topic by name, and behind it each of its members. */
export async function* exportTopics(database: Database, { app, environment }: Scope) {
  const topics = await select(
    database,
    { no: table.no, topic: table.name, title: table.title },
    sql`from ${table} where ${table.appNo} = ${app.no} and ${table.environment} = ${environment} order by ${table.name}`,
  )
  for (const { no, topic, title } of topics) {
    yield { topic, title }
    for (let after = 0; ; ) {
      const rows = await select(
        database,
        { no: users.no, user: users.name },
        sql`from ${topicUsers} join ${users} on ${users.no} = ${topicUsers.userNo}
            where ${topicUsers.topicNo} = ${no} and ${topicUsers.userNo} > ${after} and ${users.name} is not null
            order by ${topicUsers.userNo} limit ${page}`,
      )
      for (const row of rows) {
        after = row.no
        yield { topic, user: row.user }
      }
      if (rows.length < page) break
    }
    for (let after = 0; ; ) {
      const rows = await select(
        database,
        { no: devices.no, id: devices.id },
        sql`from ${topicDevices} join ${devices} on ${devices.no} = ${topicDevices.deviceNo}
            where ${topicDevices.topicNo} = ${no} and ${topicDevices.deviceNo} > ${after}
            order by ${topicDevices.deviceNo} limit ${page}`,
      )
      for (const row of rows) {
        after = row.no
        yield { topic, device: row.id }
      }
      if (rows.length < page) break
    }
  }
}
