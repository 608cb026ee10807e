import { type Transferable, transferable } from '@zbell/contract'
import { type Platform, toBase64url, uuidFromBytes } from '@zbell/core'
import type { Scope } from '../store/apps/apps.ts'
import type { Database } from '../store/database.ts'
import { attributesOf, listAttributes } from '../store/people/attributes.ts'

/** Rows that are read at a time. */
const page = 1_000

type Exported = { readonly columns: readonly string[]; readonly rows: AsyncGenerator<Record<string, unknown>> }

export const isTransferable = (text: string): text is Transferable => transferable.includes(text as Transferable)

/** Everything of a kind, oldest first, page by page; what an import reads is what an export wrote. */
export async function exportLines(database: Database, scope: Scope, what: Transferable): Promise<Exported> {
  switch (what) {
    case 'devices':
      return { columns: deviceColumns, rows: deviceRows(database, scope) }
    case 'users': {
      const names = (await listAttributes(database, scope)).map(({ name }) => name)
      return { columns: ['user', 'topics', ...names], rows: userRows(database, scope) }
    }
    case 'topics':
      return { columns: ['topic', 'title', 'user', 'device'], rows: topicRows(database, scope) }
    default:
      return what satisfies never
  }
}

const deviceColumns = [
  'platform',
  'token',
  'p256dh',
  'auth',
  'user',
  'permission',
  'muted',
  'locale',
  'timeZone',
  'appVersion',
  'systemVersion',
  'model',
]

async function* deviceRows(database: Database, { app, environment }: Scope) {
  type Raw = { no: number; platform: Platform; p256dh: Buffer | null; auth: Buffer | null; muted: number }
  for (let after = 0; ; ) {
    const rows = await database.rows<Raw>(
      `select d.no, d.platform, d.token, d.p256dh, d.auth, u.name as user, d.permission, d.muted, d.locale,
         d.time_zone as timeZone, d.app_version as appVersion, d.system_version as systemVersion, d.model
       from devices d left join users u on u.no = d.user_no
       where d.app_no = ? and d.environment = ? and d.no > ? and d.retired_at is null order by d.no limit ${page}`,
      [app.no, environment, after],
    )
    for (const { no, p256dh, auth, muted, ...row } of rows) {
      after = no
      yield { ...row, p256dh: p256dh && toBase64url(p256dh), auth: auth && toBase64url(auth), muted: muted === 1 }
    }
    if (rows.length < page) return
  }
}

async function* userRows(database: Database, { app, environment }: Scope) {
  for (let after = 0; ; ) {
    const rows = await database.rows<{ no: number; user: string }>(
      `select no, name as user from users where app_no = ? and environment = ? and no > ? and name is not null
       order by no limit ${page}`,
      [app.no, environment, after],
    )
    const numbers = rows.map(({ no }) => no)
    const attributes = await attributesOf(database, numbers)
    const topics = new Map<number, string[]>()
    if (numbers.length > 0) {
      const joined = await database.rows<{ userNo: number; name: string }>(
        `select m.user_no as userNo, t.name from topic_users m join topics t on t.no = m.topic_no
         where m.user_no in (?) order by t.name`,
        [numbers],
      )
      for (const { userNo, name } of joined) topics.set(userNo, [...(topics.get(userNo) ?? []), name])
    }
    for (const { no, user } of rows) {
      after = no
      yield { user, attributes: attributes.get(no) ?? {}, topics: topics.get(no) ?? [] }
    }
    if (rows.length < page) return
  }
}

async function* topicRows(database: Database, { app, environment }: Scope) {
  const topics = await database.rows<{ no: number; topic: string; title: string | null }>(
    'select no, name as topic, title from topics where app_no = ? and environment = ? order by name',
    [app.no, environment],
  )
  for (const { no, topic, title } of topics) {
    yield { topic, title }
    for (let after = 0; ; ) {
      const rows = await database.rows<{ no: number; user: string }>(
        `select u.no, u.name as user from topic_users m join users u on u.no = m.user_no
         where m.topic_no = ? and m.user_no > ? and u.name is not null order by m.user_no limit ${page}`,
        [no, after],
      )
      for (const row of rows) {
        after = row.no
        yield { topic, user: row.user }
      }
      if (rows.length < page) break
    }
    for (let after = 0; ; ) {
      const rows = await database.rows<{ no: number; id: Buffer }>(
        `select d.no, d.id from topic_devices m join devices d on d.no = m.device_no
         where m.topic_no = ? and m.device_no > ? order by m.device_no limit ${page}`,
        [no, after],
      )
      for (const row of rows) {
        after = row.no
        yield { topic, device: uuidFromBytes(row.id) }
      }
      if (rows.length < page) break
    }
  }
}
