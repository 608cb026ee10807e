import { and, desc, eq, getTableColumns, isNull, lt, or, sql } from 'drizzle-orm'
import { computed, type Database, keys, type Scope, select } from '../../database/index.ts'
import { type AppColumns, appColumns, appOf } from './apps.ts'

export type KeyRow = Omit<typeof keys.$inferSelect, 'hash'>
/** A key that somebody holds out, and what it opens: just what each call has to know. */
export type HeldKey = Pick<KeyRow, 'no' | 'kind' | 'name' | 'role'> & Scope & { readonly hash: Buffer }

const { hash: _, ...columns } = getTableColumns(keys)
/** Last use is kept so coarsely, since a key is used thousands of times a second. */
const useKeptMs = 60_000

export async function createKey(
  database: Database,
  key: Omit<typeof keys.$inferInsert, 'no' | 'usedAt' | 'revokedAt' | 'revokedBy'>,
): Promise<void> {
  await database.use((db) => db.insert(keys).values(key))
}

/** Keys that are not revoked; read anew for each call, so that revoking counts at once. */
export async function findKeys(database: Database, hashes: Buffer[]): Promise<HeldKey[]> {
  type StoredKey = Pick<KeyRow, 'no' | 'appNo' | 'environment' | 'kind' | 'name' | 'role' | 'usedAt'> &
    AppColumns & { readonly hash: Buffer }
  const rows = await database.rows<StoredKey>(
    sql`select k.no, k.app_no as appNo, k.environment, k.kind, k.name, k.role, k.used_at as usedAt, k.hash, ${appColumns}
     from api_keys k join apps a on a.no = k.app_no where k.hash in ${hashes} and k.revoked_at is null`,
  )
  for (const row of rows) if ((row.usedAt?.getTime() ?? 0) < Date.now() - useKeptMs) await markUsed(database, row.no)
  return rows.map(({ no, environment, kind, name, role, hash, appNo, ...app }) => ({
    ...{ no, environment, kind, name, role, hash },
    app: appOf(appNo, app),
  }))
}

async function markUsed(database: Database, no: number): Promise<void> {
  const now = new Date()
  const isOld = or(isNull(keys.usedAt), lt(keys.usedAt, new Date(now.getTime() - useKeptMs)))
  await database.use((db) =>
    db
      .update(keys)
      .set({ usedAt: now })
      .where(and(eq(keys.no, no), isOld)),
  )
}

/** Newest first. @param after the number of the last one before */
export const listKeys = (
  database: Database,
  appNo: number,
  limit: number,
  after = Number.MAX_SAFE_INTEGER,
): Promise<KeyRow[]> =>
  database.use((db) =>
    db
      .select(columns)
      .from(keys)
      .where(and(eq(keys.appNo, appNo), lt(keys.no, after)))
      .orderBy(desc(keys.no))
      .limit(limit),
  )

/** How many app keys are good. */
export async function countAppKeys(database: Database, { app, environment }: Scope): Promise<number> {
  const [row] = await select(
    database,
    { count: computed<number>(sql`count(*)`) },
    sql`from ${keys} where ${keys.appNo} = ${app.no} and ${keys.environment} = ${environment}
        and ${keys.kind} = 'app' and ${keys.revokedAt} is null`,
  )
  return row?.count ?? 0
}

/** Revoking twice is revoking once. @returns `undefined` when this app has no such key */
export async function revokeKey(
  database: Database,
  appNo: number,
  id: string,
  by: string,
): Promise<KeyRow | undefined> {
  const own = and(eq(keys.appNo, appNo), eq(keys.id, id))
  await database.use((db) =>
    db
      .update(keys)
      .set({ revokedAt: new Date(), revokedBy: by })
      .where(and(own, isNull(keys.revokedAt))),
  )
  return (await database.use((db) => db.select(columns).from(keys).where(own)))[0]
}
