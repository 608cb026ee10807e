import { createHash } from 'node:crypto'
import type { Scope } from '../apps/apps.ts'
import type { Database, Tx } from '../database.ts'
import { ensureUser } from './ensure-user.ts'

export type NewOccurrence = {
  readonly id: string
  readonly source: string
  readonly type: string
  readonly at: Date
  readonly data: unknown
}

/**
 * Keeps what happened, each once by source and id (CloudEvents 1.0 §3.1.1).
 * @param about the user whom each is about, by name, or the number of one person for all
 * @returns how many were new
 */
export async function storeOccurrences(
  database: Database,
  scope: Scope,
  occurrences: readonly (NewOccurrence & { readonly user: string | undefined })[],
  person?: (tx: Tx) => Promise<number>,
): Promise<number> {
  return database.transact(async (tx) => {
    const users = new Map<string, number>()
    for (const name of new Set(occurrences.flatMap(({ user }) => (user === undefined ? [] : [user]))))
      users.set(name, await ensureUser(tx, scope, name))
    const own = person && (await person(tx))
    const rows = occurrences.map(({ id, source, type, at, data, user }) => [
      scope.app.no,
      scope.environment,
      createHash('sha256')
        .update(JSON.stringify([source, id]))
        .digest(),
      source,
      id,
      type,
      own ?? (user === undefined ? null : users.get(user)) ?? null,
      at,
      data === undefined ? null : JSON.stringify(data),
    ])
    const places = rows.map(() => '(?, ?, ?, ?, ?, ?, ?, ?, ?, utc_timestamp(3))').join(',')
    const { affectedRows } = await tx.change(
      `insert ignore into occurrences (app_no, environment, identity, source, id, type, user_no, at, data, taken_at) values ${places}`,
      rows.flat(),
    )
    return affectedRows
  })
}

export type OccurrenceRow = Omit<NewOccurrence, 'data'> & { readonly data: unknown }

/** Newest first. */
export async function occurrencesOf(database: Database, userNo: number, limit: number): Promise<OccurrenceRow[]> {
  // As text for certain: whether the driver reads JSON by itself depends on the server, and a text would be read twice.
  const rows = await database.rows<OccurrenceRow & { data: string | null }>(
    'select id, source, type, at, cast(data as char) as data from occurrences where user_no = ? order by at desc limit ?',
    [userNo, limit],
  )
  return rows.map((row) => ({ ...row, data: row.data === null ? null : (JSON.parse(row.data) as unknown) }))
}
