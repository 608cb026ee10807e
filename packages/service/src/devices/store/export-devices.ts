import { toBase64url } from '@zbell/core'
import { sql } from 'drizzle-orm'
import { type Database, devices, type Scope, select, users } from '../../database/index.ts'

/** Rows that are read at a time. */
const page = 1_000

/** Every device of an app and environment that is not retired, oldest first. */
export async function* exportDevices(database: Database, { app, environment }: Scope) {
  for (let after = 0; ; ) {
    const rows = await select(
      database,
      {
        no: devices.no,
        platform: devices.platform,
        token: devices.token,
        p256dh: devices.p256dh,
        auth: devices.auth,
        user: users.name,
        permission: devices.permission,
        muted: devices.muted,
        locale: devices.locale,
        timeZone: devices.timeZone,
        appVersion: devices.appVersion,
        systemVersion: devices.systemVersion,
        model: devices.model,
      },
      sql`from ${devices} left join ${users} on ${users.no} = ${devices.userNo} where ${devices.appNo} = ${app.no}
          and ${devices.environment} = ${environment} and ${devices.no} > ${after} and ${devices.retiredAt} is null
          order by ${devices.no} limit ${page}`,
    )
    for (const { no, p256dh, auth, ...row } of rows) {
      after = no
      yield { ...row, p256dh: p256dh && toBase64url(p256dh), auth: auth && toBase64url(auth) }
    }
    if (rows.length < page) return
  }
}
