import type { Environment } from '@zbell/core'
import { and, eq, isNull } from 'drizzle-orm'
import type { Database } from '../database.ts'
import { apps, keys } from '../tables.ts'
import type { Scope } from './apps.ts'

export type KeyRow = Scope & { readonly kind: 'backend' | 'app'; readonly name: string }

export async function createKey(
  database: Database,
  key: {
    appNo: number
    environment: Environment
    kind: 'backend' | 'app'
    name: string
    hash: Buffer
    createdAt: Date
  },
): Promise<void> {
  await database.use((db) => db.insert(keys).values(key))
}

export async function findKey(database: Database, hash: Buffer): Promise<KeyRow | undefined> {
  const [row] = await database.use((db) =>
    db
      .select({ app: apps, environment: keys.environment, kind: keys.kind, name: keys.name })
      .from(keys)
      .innerJoin(apps, eq(apps.no, keys.appNo))
      .where(and(eq(keys.hash, hash), isNull(keys.revokedAt))),
  )
  return row
}
