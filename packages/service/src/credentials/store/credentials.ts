import { type CheckVerdict, type Environment, type Platform, uuidFromBytes } from '@zbell/core'
import { and, asc, desc, eq, gt, inArray, isNotNull, isNull, lt, or, sql } from 'drizzle-orm'
import {
  build,
  credentials,
  type Database,
  now,
  type Scope,
  select,
  type Tx,
  uuidBuffer,
  type Where,
} from '../../database/index.ts'
import { publish } from '../../events/index.ts'

export type CredentialRow = typeof credentials.$inferSelect
export type NewCredential = Omit<
  CredentialRow,
  | 'no'
  | 'slot'
  | 'retiredAt'
  | 'retiredBy'
  | 'usedAt'
  | 'rejectedAt'
  | 'checkedAt'
  | 'verdict'
  | 'roundTripMs'
  | 'announcedDays'
>

const inScope = (scope: Scope) => [eq(credentials.appNo, scope.app.no), eq(credentials.environment, scope.environment)]

/** The one that sends. */
export async function credentialInUse(
  database: Database,
  appNo: number,
  environment: Environment,
  platform: Platform,
): Promise<CredentialRow | undefined> {
  const [row] = await database.use((db) =>
    db
      .select()
      .from(credentials)
      .where(
        and(
          eq(credentials.appNo, appNo),
          eq(credentials.environment, environment),
          eq(credentials.platform, platform),
          eq(credentials.slot, 'in-use'),
        ),
      ),
  )
  return row
}

export async function findCredential(database: Database, scope: Scope, id: string): Promise<CredentialRow | undefined> {
  return (
    await database.use((db) =>
      db
        .select()
        .from(credentials)
        .where(and(...inScope(scope), eq(credentials.id, id))),
    )
  )[0]
}

/** Newest first. @param after the number of the last one before */
export const listCredentials = (
  database: Database,
  scope: Scope,
  limit: number,
  after = Number.MAX_SAFE_INTEGER,
): Promise<CredentialRow[]> =>
  database.use((db) =>
    db
      .select()
      .from(credentials)
      .where(and(...inScope(scope), lt(credentials.no, after)))
      .orderBy(desc(credentials.no))
      .limit(limit),
  )

/** Those that send, one for a platform at most. */
export const credentialsInUse = (database: Database, scope: Scope): Promise<CredentialRow[]> =>
  database.use((db) =>
    db
      .select()
      .from(credentials)
      .where(and(...inScope(scope), eq(credentials.slot, 'in-use'))),
  )

/** The request that a certificate was issued for. */
export async function findRequest(
  database: Database,
  scope: Scope,
  publicKeyHash: string,
): Promise<CredentialRow | undefined> {
  const open = and(
    ...inScope(scope),
    eq(credentials.publicKeyHash, publicKeyHash),
    isNull(credentials.fingerprint),
    isNull(credentials.retiredAt),
  )
  return (await database.use((db) => db.select().from(credentials).where(open)))[0]
}

/** One that is not retired and has this fingerprint. */
export async function findByFingerprint(
  database: Database,
  scope: Scope,
  platform: Platform,
  fingerprint: string,
): Promise<CredentialRow | undefined> {
  const same = and(
    ...inScope(scope),
    eq(credentials.platform, platform),
    eq(credentials.fingerprint, fingerprint),
    isNotNull(credentials.slot),
  )
  return (await database.use((db) => db.select().from(credentials).where(same)))[0]
}

/** Stores a new credential, without a slot: a request, or one that {@link placeCredential} places. */
export async function insertCredential(database: Database, row: NewCredential): Promise<void> {
  await database.use((db) => db.insert(credentials).values(row))
}

/** Marries a certificate to the request that its key was made with. */
export async function completeRequest(database: Database, no: number, row: Partial<NewCredential>): Promise<void> {
  await database.use((db) => db.update(credentials).set(row).where(eq(credentials.no, no)))
}

/** The one that would be retired by another, since two have places: one in use, one that waits. */
export async function findInTheWay(
  database: Database,
  scope: Scope,
  platform: Platform,
): Promise<{ readonly id: string; readonly kind: string; readonly createdAt: Date } | undefined> {
  const rows = await select(
    database,
    { id: credentials.id, kind: credentials.kind, createdAt: credentials.createdAt, slot: credentials.slot },
    sql`from ${credentials} where ${credentials.appNo} = ${scope.app.no}
        and ${credentials.environment} = ${scope.environment} and ${credentials.platform} = ${platform}
        and ${credentials.slot} is not null`,
  )
  const waiting = rows.length === 2 ? rows.find(({ slot }) => slot === 'waiting') : undefined
  return waiting
}

/**
 * Puts a credential in a slot, in one step: the one that was in use waits, so that it can be taken back, and the one that
 * waited retires. The first of its platform is always in use.
 */
export async function placeCredential(
  database: Database,
  row: Pick<CredentialRow, 'no' | 'appNo' | 'environment' | 'platform'>,
  use: boolean,
  by: string,
): Promise<void> {
  await database.transact(async (tx) => {
    const rows = await select(
      tx,
      { no: credentials.no, slot: credentials.slot },
      sql`from ${credentials} where ${credentials.appNo} = ${row.appNo}
        and ${credentials.environment} = ${row.environment} and ${credentials.platform} = ${row.platform} for update`,
    )
    const current = rows.find(({ slot }) => slot === 'in-use')
    const waiting = rows.find(({ slot }) => slot === 'waiting')
    if (current?.no === row.no) return
    if (current && !use) {
      if (waiting && waiting.no !== row.no) await retire(tx, waiting.no, by)
      await setSlot(tx, row.no, 'waiting')
      return
    }
    if (current && waiting && waiting.no !== row.no) await retire(tx, waiting.no, by)
    // The slots are unique: each is emptied before it is filled.
    await tx.change(
      build
        .update(credentials)
        .set({ slot: null })
        .where(inArray(credentials.no, [row.no, current?.no ?? row.no])),
    )
    if (current) await setSlot(tx, current.no, 'waiting')
    await setSlot(tx, row.no, 'in-use')
  })
}

const setSlot = (tx: Tx, no: number, slot: 'in-use' | 'waiting') =>
  tx.change(
    build
      .update(credentials)
      .set({ slot, retiredAt: null, retiredBy: null, rejectedAt: null })
      .where(eq(credentials.no, no)),
  )

const retire = (tx: Pick<Tx, 'change'>, no: number, by: string) =>
  tx.change(build.update(credentials).set({ slot: null, retiredAt: now, retiredBy: by }).where(eq(credentials.no, no)))

/** Says where a credential may go. */
export async function bindCredential(database: Database, no: number, origins: readonly string[]): Promise<void> {
  await database.change(build.update(credentials).set({ origins }).where(eq(credentials.no, no)))
}

/** Facts of the account beside a credential; those of before give way. */
export async function changeFacts(
  database: Database,
  no: number,
  facts: Readonly<Record<string, string>>,
): Promise<void> {
  await database.change(build.update(credentials).set({ facts }).where(eq(credentials.no, no)))
}

export async function retireCredential(database: Database, no: number, by: string): Promise<void> {
  await retire(database, no, by)
}

/** The gateway accepted the credential; kept to the minute, since it does so thousands of times a second. */
export async function markUsed(database: Database, id: string): Promise<void> {
  await database.change(build.update(credentials).set({ usedAt: now, rejectedAt: null }).where(eq(credentials.id, id)))
}

/** What is told of a credential. */
type Refusable = Where & { readonly id: Buffer; readonly platform: Platform }
const refusable = sql`id, app_no as appNo, environment, platform`

/** The gateway refuses the credential: whoever notices it first tells it. */
export async function markRejected(database: Database, id: string): Promise<void> {
  await database.transact(async (tx) => {
    const { affectedRows } = await tx.change(
      build
        .update(credentials)
        .set({ rejectedAt: now })
        .where(and(eq(credentials.id, id), isNull(credentials.rejectedAt))),
    )
    if (affectedRows !== 1) return
    const [row] = await tx.rows<Refusable>(sql`select ${refusable} from credentials where id = ${uuidBuffer(id)}`)
    if (row) await tellRejected(tx, row, 'the gateway refused it when something was sent')
  })
}

const tellRejected = (tx: Tx, row: Refusable, says: string): Promise<void> =>
  publish(tx, row, ['credential.rejected'], () => [
    {
      kind: 'credential.rejected',
      subject: row.platform,
      data: { credential: uuidFromBytes(row.id), platform: row.platform, says },
    },
  ])

export async function storeCheck(
  database: Database,
  no: number,
  verdict: CheckVerdict,
  roundTripMs: number,
): Promise<void> {
  await database.transact(async (tx) => {
    const [before] = await tx.rows<Refusable & { is: string | null }>(
      sql`select ${refusable}, json_value(verdict, '$.is') as \`is\` from credentials where no = ${no} for update`,
    )
    await tx.change(
      build.update(credentials).set({ verdict, roundTripMs, checkedAt: now }).where(eq(credentials.no, no)),
    )
    if (before && verdict.is === 'refused' && before.is !== 'refused')
      await tellRejected(tx, before, `a check found it refused: the gateway answered ${verdict.status}`)
  })
}

/** Takes a credential in use whose last check is older than so long; nobody else gets it for as long again. */
export async function claimDueCheck(database: Database, olderThanMs: number): Promise<CredentialRow | undefined> {
  // By the database's clock, which is everybody's.
  const now = sql<Date>`utc_timestamp(3)`
  const due = sql`utc_timestamp(3) - interval ${olderThanMs * 1_000} microsecond`
  const isDue = and(eq(credentials.slot, 'in-use'), or(isNull(credentials.checkedAt), lt(credentials.checkedAt, due)))
  const [row] = await database.use((db) => db.select().from(credentials).where(isDue).limit(1))
  if (!row) return undefined
  const [{ affectedRows }] = await database.use((db) =>
    db
      .update(credentials)
      .set({ checkedAt: now })
      .where(and(eq(credentials.no, row.no), isDue)),
  )
  return affectedRows === 1 ? row : claimDueCheck(database, olderThanMs)
}

/** Those in use that have an end. */
export async function expiringCredentials(database: Database): Promise<(CredentialRow & { notAfter: Date })[]> {
  const ends = and(eq(credentials.slot, 'in-use'), isNotNull(credentials.notAfter))
  const rows = await database.use((db) => db.select().from(credentials).where(ends).limit(1_000))
  return rows.flatMap((row) => (row.notAfter ? [{ ...row, notAfter: row.notAfter }] : []))
}

export async function announceExpiry(database: Database, no: number, days: number): Promise<void> {
  await database.transact(async (tx) => {
    await tx.change(build.update(credentials).set({ announcedDays: days }).where(eq(credentials.no, no)))
    const [row] = await tx.rows<Refusable & { notAfter: Date }>(
      sql`select ${refusable}, not_after as notAfter from credentials where no = ${no}`,
    )
    if (!row) return
    const { platform } = row
    const data = { credential: uuidFromBytes(row.id), platform, notAfter: row.notAfter.toISOString(), days }
    await publish(tx, row, ['credential.expiring'], () => [{ kind: 'credential.expiring', subject: platform, data }])
  })
}

/** A page of sealed secrets, in the order of their numbers. */
export const sealedAfter = (database: Database, no: number): Promise<CredentialRow[]> =>
  database.use((db) =>
    db.select().from(credentials).where(gt(credentials.no, no)).orderBy(asc(credentials.no)).limit(200),
  )

/** @returns false when it was changed meanwhile */
export async function replaceSealed(database: Database, no: number, before: Buffer, after: Buffer): Promise<boolean> {
  const same = and(eq(credentials.no, no), eq(credentials.sealed, before))
  const [{ affectedRows }] = await database.use((db) => db.update(credentials).set({ sealed: after }).where(same))
  return affectedRows === 1
}
