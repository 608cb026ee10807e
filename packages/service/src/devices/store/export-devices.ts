import { type Platform, toBase64url } from '@zbell/core'
import { sql } from 'drizzle-orm'
import type { Database, Scope } from '../../database/index.ts'

/** Rows that are read at a time. */
const page = 1_000

/** Every device of an app and environment that is not retired, oldest first. */
export async function* exportDevices(database: Database, { app, environment }: Scope) {
  type StoredDevice = { no: number; platform: Platform; p256dh: Buffer | null; auth: Buffer | null; muted: number }
  for (let after = 0; ; ) {
    const rows = await database.rows<StoredDevice>(
      sql`select d.no, d.platform, d.token, d.p256dh, d.auth, u.name as user, d.permission, d.muted, d.locale,
         d.time_zone as timeZone, d.app_version as appVersion, d.system_version as systemVersion, d.model
       from devices d left join users u on u.no = d.user_no
       where d.app_no = ${app.no} and d.environment = ${environment} and d.no > ${after} and d.retired_at is null order by d.no limit ${page}`,
    )
    for (const { no, p256dh, auth, muted, ...row } of rows) {
      after = no
      yield { ...row, p256dh: p256dh && toBase64url(p256dh), auth: auth && toBase64url(auth), muted: muted === 1 }
    }
    if (rows.length < page) return
  }
}
