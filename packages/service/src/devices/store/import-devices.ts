import { createHash, randomBytes } from 'node:crypto'
import { fromBase64url, uuidV7 } from '@zbell/core'
import { sql } from 'drizzle-orm'
import { commas, type Database, type Scope, uuidBuffer } from '../../database/index.ts'
import { ensureUsers } from './ensure-users.ts'

type Row = {
  readonly line: number
  readonly value: {
    readonly platform: string
    readonly token: string
    readonly p256dh?: string | null | undefined
    readonly auth?: string | null | undefined
    readonly user?: string | null | undefined
    readonly permission: string
    readonly muted: boolean
    readonly locale?: string | null | undefined
    readonly timeZone?: string | null | undefined
    readonly appVersion?: string | null | undefined
    readonly systemVersion?: string | null | undefined
    readonly model?: string | null | undefined
  }
}

/**
 * Takes a part of a file in: one device for each token. A device that is here already takes what the file says of it and
 * keeps its secret; a new one gets a secret that nobody knows, and the first that registers its token takes it.
 * @returns the lines that cannot be devices
 */
export async function importDevices(
  database: Database,
  scope: Scope,
  rows: readonly Row[],
): Promise<{ line: number; says: string }[]> {
  const faults: { line: number; says: string }[] = []
  const good = rows.filter(({ line, value }) => {
    const says = faultsOf(value)
    if (says.length > 0) faults.push({ line, says: says.join('; ') })
    return says.length === 0
  })
  if (good.length === 0) return faults
  await database.transact(async (tx) => {
    const names = [...new Set(good.flatMap(({ value }) => value.user ?? []))]
    const users = await ensureUsers(tx, scope, names)
    const added = good.map(({ value }) => {
      const { platform, token, p256dh, auth, user, permission, muted } = value
      const facts = [value.locale, value.timeZone, value.appVersion, value.systemVersion, value.model]
      return sql`(${uuidBuffer(uuidV7(Date.now(), randomBytes(10)))}, ${scope.app.no}, ${scope.environment}, ${platform}, ${token},
        ${createHash('sha256').update(token).digest()}, ${bytesOf(p256dh)}, ${bytesOf(auth)}, ${randomBytes(32)},
        ${user ? (users.get(user) ?? null) : null}, ${permission}, ${muted},
        ${commas(facts.map((fact) => fact ?? null))}, utc_timestamp(3), utc_timestamp(3), utc_timestamp(3))`
    })
    await tx.change(
      sql`insert into devices (id, app_no, environment, platform, token, token_hash, p256dh, auth, secret_hash, user_no, permission, muted, locale, time_zone, app_version, system_version, model, registered_at, seen_at, changed_at)
          values ${commas(added)} on duplicate key update user_proved = user_proved and user_no <=> value(user_no),
          user_no = value(user_no), permission = value(permission), muted = value(muted), locale = value(locale),
          time_zone = value(time_zone), app_version = value(app_version), system_version = value(system_version),
          model = value(model), p256dh = value(p256dh), auth = value(auth), changed_at = value(changed_at)`,
    )
  })
  return faults
}

function faultsOf({ platform, token, p256dh, auth }: Row['value']): string[] {
  const isEndpoint = token.startsWith('https://')
  if (platform !== 'web') return isEndpoint ? ['token is an endpoint, which only the web has'] : []
  return [
    ...(isEndpoint ? [] : ['token is not an endpoint, which the web has']),
    ...(p256dh && auth ? [] : ['p256dh and auth belong to a browser']),
  ]
}

const bytesOf = (text: string | null | undefined): Buffer | null => {
  const bytes = text ? fromBase64url(text.replace(/=+$/, '')) : undefined
  return bytes ? Buffer.from(bytes) : null
}
