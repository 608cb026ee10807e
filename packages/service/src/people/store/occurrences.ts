import { createHash } from 'node:crypto'
import { wellFormedJson } from '@zbell/core'
import { sql } from 'drizzle-orm'
import {
  commas,
  computed,
  type Database,
  occurrences as occurrencesTable,
  type Scope,
  select,
  type Tx,
} from '../../database/index.ts'
import { ensurePersonOf, ensureUser } from '../../devices/index.ts'
import { queueOccurrences, type Reporter } from '../../events/index.ts'

export type NewOccurrence = {
  readonly id: string
  readonly source: string
  readonly type: string
  readonly at: Date
  readonly data: unknown
}

/** So many occurrences that devices reported of one person are kept, and a few more. */
const keptOfPerson = 5_000
const trimsEvery = 50
const batchSize = 5_000

const trimOccurrences = (tx: Tx, userNo: number) =>
  tx.change(
    sql`delete from occurrences where user_no = ${userNo} and at <= (
      select at from (select at from occurrences where user_no = ${userNo} order by at desc limit 1 offset ${keptOfPerson}) as older)
      limit ${batchSize}`,
  )

/** Occurrences that were taken in so long ago. */
export async function pruneOccurrences(database: Database, days: number, mayGoOn: () => boolean): Promise<void> {
  while (mayGoOn()) {
    const { affectedRows } = await database.change(
      sql`delete from occurrences where taken_at < utc_timestamp(3) - interval ${days} day order by taken_at limit ${batchSize}`,
    )
    if (affectedRows < batchSize) return
  }
}

/**
 * Occurrences have one identity for each reporter, so that nobody can report an id first in the place of another.
 * @param personNo of a device’s person
 */
const reporterName = (by: Reporter, personNo: number | undefined): readonly unknown[] =>
  by.is === 'server' ? [] : by.is === 'source' ? ['source', by.no] : ['device', personNo]

/**
 * Stores occurrences, each once by reporter, source and id (CloudEvents 1.0 §3.1.1).
 * @param alsoStore stores something of the reporter’s in the same transaction
 * @returns how many were new
 */
export async function storeOccurrences(
  database: Database,
  scope: Scope,
  occurrences: readonly (NewOccurrence & { readonly user: string | undefined })[],
  by: Reporter,
  alsoStore?: (tx: Tx) => Promise<void>,
): Promise<number> {
  return database.transact(async (tx) => {
    await alsoStore?.(tx)
    if (occurrences.length === 0) return 0
    const users = new Map<string, number>()
    for (const name of new Set(occurrences.flatMap(({ user }) => (user === undefined ? [] : [user]))))
      users.set(name, await ensureUser(tx, scope, name))
    const own = by.is === 'device' ? await ensurePersonOf(tx, scope, by.no) : undefined
    const where = { appNo: scope.app.no, environment: scope.environment }
    const rows = occurrences.map(({ id, source, type, at, data, user }) => {
      const identity = createHash('sha256')
        .update(JSON.stringify([...reporterName(by, own), source, id]))
        .digest()
      const userNo = own ?? (user === undefined ? null : users.get(user)) ?? null
      return sql`(${scope.app.no}, ${scope.environment}, ${identity}, ${source}, ${id}, ${type}, ${userNo}, ${at},
        ${data === undefined ? null : wellFormedJson(data)}, utc_timestamp(3), ${by.is}, ${by.is === 'device' && by.proved})`
    })
    const added = await tx.rows<{ no: number }>(
      sql`insert ignore into occurrences (app_no, environment, identity, source, id, type, user_no, at, data, taken_at, reporter, proved)
          values ${commas(rows)} returning no`,
    )
    if (own !== undefined && added.some(({ no }) => no % trimsEvery === 0)) await trimOccurrences(tx, own)
    await queueOccurrences(
      tx,
      where,
      added.map(({ no }) => no),
      by,
    )
    return added.length
  })
}

export type OccurrenceRow = Omit<NewOccurrence, 'data'> & { readonly data: unknown }

/** Newest first. */
export async function occurrencesOf(database: Database, userNo: number, limit: number): Promise<OccurrenceRow[]> {
  // As text for certain: whether the driver reads JSON by itself depends on the server, and a text would be read twice.
  const rows = await select(
    database,
    {
      id: occurrencesTable.id,
      source: occurrencesTable.source,
      type: occurrencesTable.type,
      at: occurrencesTable.at,
      data: computed<OccurrenceRow & { data: string | null }['data']>(sql`cast(${occurrencesTable.data} as char)`),
    },
    sql`from ${occurrencesTable} where ${occurrencesTable.userNo} = ${userNo} order by ${occurrencesTable.at} desc
        limit ${limit}`,
  )
  return rows.map((row) => ({ ...row, data: row.data === null ? null : (JSON.parse(row.data) as unknown) }))
}
