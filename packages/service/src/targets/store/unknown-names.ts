import { createHash } from 'node:crypto'
import { uuidFromBytes } from '@zbell/core'
import { type SQL, sql } from 'drizzle-orm'
import { type Database, type Scope, uuidBuffer } from '../../database/index.ts'

/** Which of these names are not there in an app and environment. */
type Unknown = (database: Database, scope: Scope, names: readonly string[]) => Promise<Set<string>>

/** @param keyOf what a name is kept as @param nameOf back from a row */
const unknownIn =
  (table: SQL, column: SQL, keyOf: (name: string) => unknown, nameOf: (kept: never) => string, more = sql``): Unknown =>
  async (database, { app, environment }, names) => {
    if (names.length === 0) return new Set()
    const known = await database.rows<{ kept: never }>(
      sql`select ${column} as kept from ${table} where app_no = ${app.no} and environment = ${environment} ${more}
        and ${column} in ${names.map(keyOf)}`,
    )
    const there = new Set(known.map(({ kept }) => nameOf(kept)))
    return new Set(names.filter((name) => !there.has(nameOf(keyOf(name) as never))))
  }

const asItIs = (name: string): string => name
const sha256 = (text: string): Buffer => createHash('sha256').update(text).digest()

export const unknownUsers = unknownIn(sql`users`, sql`name`, asItIs, asItIs as never)
export const unknownTopics = unknownIn(sql`topics`, sql`name`, asItIs, asItIs as never)
export const unknownDevices = unknownIn(sql`devices`, sql`id`, uuidBuffer, uuidFromBytes as never)
export const unknownNotifications = unknownIn(sql`notifications`, sql`id`, uuidBuffer, uuidFromBytes as never)
export const unknownSegments = unknownIn(sql`segments`, sql`name`, asItIs, asItIs as never, sql`and deleted_at is null`)
export const unknownTokens = unknownIn(
  sql`devices`,
  sql`token_hash`,
  sha256,
  ((hash: Buffer) => hash.toString('hex')) as never,
  sql`and platform in ('ios', 'android', 'web')`,
)
