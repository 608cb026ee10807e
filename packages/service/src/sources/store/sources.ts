import { wellFormedJson } from '@zbell/core'
import { and, eq, sql } from 'drizzle-orm'
import {
  build,
  computed,
  type Database,
  inWhere,
  named,
  now,
  type Reader,
  type RowOf,
  select,
  sourcePages,
  type Tx,
  sources as table,
  triggerEvents,
  triggers,
  type Where,
} from '../../database/index.ts'

const columns = {
  no: table.no,
  appNo: table.appNo,
  environment: table.environment,
  name: table.name,
  version: table.version,
  /** Without what is secret of it. */
  definition: table.definition,
  sealed: table.sealed,
  /** Digest of what it watches: after a change of that the first poll rings nobody. */
  shape: table.shape,
  /** Its state was taken in, so that from now on something can have changed. */
  taken: table.taken,
  /** Types of its columns by name, as its state was taken in. */
  columns: table.columns,
  /** What came last, for whoever writes an expression over it. */
  samples: computed<readonly unknown[]>(sql`cast(samples as char)`, (text) =>
    text === null ? [] : (JSON.parse(String(text)) as unknown[]),
  ),
  /** What a poll found that somebody should know. */
  note: table.note,
  /** Rows that could not be taken, and why the first of them. */
  leftOut: table.leftOut,
  fault: table.fault,
  faultSince: table.faultSince,
  faults: table.faults,
  polledAt: table.polledAt,
  /** Since it was polled last, by the database’s clock. */
  silentSeconds: computed<number | null>(sql`timestampdiff(second, polled_at, utc_timestamp(3))`),
  madeBy: table.madeBy,
  changedAt: table.changedAt,
}
/** A source as it is kept. */
export type SourceRow = RowOf<typeof columns>

/** Lists, finds and counts sources. */
export const sourceStore = named(table, columns)

export const findSourceByNo = async (reader: Reader, no: number): Promise<SourceRow | undefined> =>
  (await sourceStore.select(reader, sql`where no = ${no}`))[0]

/** The one that answers at an address. @param digest of what stands in the address */
export const sourceOfAddress = async (reader: Reader, digest: Buffer): Promise<SourceRow | undefined> =>
  (await sourceStore.select(reader, sql`where address = ${digest}`))[0]

/** Saves one under its name. what it looked like is forgotten when it watches something else from now on. */
export async function saveSource(
  database: Database,
  where: Where,
  given: Pick<SourceRow, 'name' | 'definition' | 'sealed' | 'shape' | 'madeBy'> & { readonly address: Buffer | null },
): Promise<void> {
  const { name, definition, sealed, shape, address, madeBy } = given
  await database.transactAnew(async (tx) => {
    const [before] = await select(
      tx,
      { no: table.no, shape: table.shape },
      sql`from ${table} where ${inWhere(where)} and ${table.name} = ${name} for update`,
    )
    const text = wellFormedJson(definition)
    // A poll that is under way reads what it was.
    const kept = sql`kind = ${definition.kind}, definition = ${text}, sealed = ${sealed}, address = ${address},
      shape = ${shape}, fault = null, fault_since = null, faults = 0, lease = null, leased_until = null,
      next_poll_at = utc_timestamp(3), made_by = ${madeBy}, changed_at = utc_timestamp(3)`
    if (!before) {
      await tx.change(
        sql`insert into sources set app_no = ${where.appNo}, environment = ${where.environment}, name = ${name}, ${kept}`,
      )
      return
    }
    await tx.change(sql`update sources set ${kept}, version = version + 1 where no = ${before.no}`)
    if (!before.shape.equals(shape)) await pruneState(tx, before.no)
  })
}

/** The next poll takes in what is there, and rings nobody. */
export async function pruneState(tx: Tx, no: number): Promise<void> {
  await tx.change(build.delete(sourcePages).where(eq(sourcePages.sourceNo, no)))
  await tx.change(
    build
      .update(table)
      .set({ taken: false, state: null, columns: null, samples: null, note: null, leftOut: null, polledAt: null })
      .where(eq(table.no, no)),
  )
}

export async function deleteSource(database: Database, { no, appNo, environment }: SourceRow): Promise<void> {
  await database.transact(async (tx) => {
    await tx.change(build.delete(table).where(eq(table.no, no)))
    await tx.change(build.delete(sourcePages).where(eq(sourcePages.sourceNo, no)))
    await tx.change(
      build.delete(triggerEvents).where(and(inWhere({ appNo, environment }), eq(triggerEvents.sourceNo, no))),
    )
  })
}

/** Triggers that read a source, by name. */
export async function triggersReading(reader: Reader, where: Where, source: string): Promise<string[]> {
  const rows = await select(
    reader,
    { name: triggers.name },
    sql`from ${triggers} where ${inWhere(where)} and ${triggers.source} = ${source} order by ${triggers.name} limit 100`,
  )
  return rows.map(({ name }) => name)
}

/** Sources that could not be polled, for those who watch. */
export const awaySources = (
  reader: Reader,
  where: Where,
): Promise<{ name: string; because: string; sinceSeconds: number }[]> =>
  reader.rows(
    sql`select name, fault as because, timestampdiff(second, fault_since, utc_timestamp(3)) as sinceSeconds
      from sources where ${inWhere(where)} and fault is not null order by name limit 20`,
  )

/** Secrets of all sources. */
export const sealedSources = (
  database: Database,
): Promise<Pick<SourceRow, 'no' | 'appNo' | 'environment' | 'name' | 'sealed'>[]> =>
  database.rows(sql`select no, app_no as appNo, environment, name, sealed from sources order by no`)

/** @returns false when it was changed meanwhile */
export async function replaceSealedSource(
  database: Database,
  no: number,
  before: Buffer,
  after: Buffer,
): Promise<boolean> {
  const { affectedRows } = await database.change(
    build
      .update(table)
      .set({ sealed: after })
      .where(and(eq(table.no, no), eq(table.sealed, before))),
  )
  return affectedRows === 1
}

/** Keeps what came last, the newest first. */
export const keepSamples = (tx: Tx, no: number, samples: readonly unknown[]) =>
  tx.change(build.update(table).set({ samples, polledAt: now }).where(eq(table.no, no)))
