import { createHash } from 'node:crypto'
import { uuidFromBytes } from '@zbell/core'
import type { Scope } from '../apps/apps.ts'
import { uuidBuffer } from '../columns.ts'
import type { Database } from '../database.ts'

/** Which of these names are not there in an app and environment. */
type Unknown = (database: Database, scope: Scope, names: readonly string[]) => Promise<Set<string>>

/** @param keyOf what a name is kept as @param nameOf back from a row */
const unknownIn =
  (
    table: string,
    column: string,
    keyOf: (name: string) => unknown,
    nameOf: (kept: never) => string,
    more = '',
  ): Unknown =>
  async (database, { app, environment }, names) => {
    if (names.length === 0) return new Set()
    const known = await database.rows<{ kept: never }>(
      `select ${column} as kept from ${table} where app_no = ? and environment = ? ${more} and ${column} in (?)`,
      [app.no, environment, names.map(keyOf)],
    )
    const there = new Set(known.map(({ kept }) => nameOf(kept)))
    return new Set(names.filter((name) => !there.has(nameOf(keyOf(name) as never))))
  }

const asItIs = (name: string): string => name
const sha256 = (text: string): Buffer => createHash('sha256').update(text).digest()

export const unknownUsers = unknownIn('users', 'name', asItIs, asItIs as never)
export const unknownTopics = unknownIn('topics', 'name', asItIs, asItIs as never)
export const unknownDevices = unknownIn('devices', 'id', uuidBuffer, uuidFromBytes as never)
export const unknownNotifications = unknownIn('notifications', 'id', uuidBuffer, uuidFromBytes as never)
export const unknownTokens = unknownIn(
  'devices',
  'token_hash',
  sha256,
  ((hash: Buffer) => hash.toString('hex')) as never,
  "and platform in ('ios', 'android', 'web')",
)
