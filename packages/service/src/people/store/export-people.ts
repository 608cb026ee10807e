import { uuidFromBytes } from '@zbell/core'
import { sql } from 'drizzle-orm'
import { type Database, type Scope, select, topics as table, users } from '../../database/index.ts'
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
      const rows = await database.rows<{ no: number; user: string }>(
        sql`select u.no, u.name as user from topic_users m join users u on u.no = m.user_no
         where m.topic_no = ${no} and m.user_no > ${after} and u.name is not null order by m.user_no limit ${page}`,
      )
      for (const row of rows) {
        after = row.no
        yield { topic, user: row.user }
      }
      if (rows.length < page) break
    }
    for (let after = 0; ; ) {
      const rows = await database.rows<{ no: number; id: Buffer }>(
        sql`select d.no, d.id from topic_devices m join devices d on d.no = m.device_no
         where m.topic_no = ${no} and m.device_no > ${after} order by m.device_no limit ${page}`,
      )
      for (const row of rows) {
        after = row.no
        yield { topic, device: uuidFromBytes(row.id) }
      }
      if (rows.length < page) break
    }
  }
}
