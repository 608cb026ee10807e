import { wellFormedJson } from '@zbell/core'
import type { SourceDefinition } from '@zbell/core/triggers'
import { sql } from 'drizzle-orm'
import { type Database, inWhere, type Reader, type Tx, type Where } from '../../database/index.ts'

/** A source as it is kept. */
export type SourceRow = Where & {
  readonly no: number
  readonly name: string
  readonly version: number
  /** Without what is secret of it. */
  readonly definition: SourceDefinition
  readonly sealed: Buffer
  /** Digest of what it watches: after a change of that the first look rings nobody. */
  readonly shape: Buffer
  /** Its state was taken in, so that from now on something can have changed. */
  readonly taken: boolean
  /** Types of its columns by name, as its state was taken in. */
  readonly columns: Readonly<Record<string, string>> | null
  /** What came last, for whoever writes an expression over it. */
  readonly samples: readonly unknown[]
  /** What a poll found that somebody should know. */
  readonly note: string | null
  /** Rows that could not be taken, and why the first of them. */
  readonly leftOut: string | null
  readonly fault: string | null
  readonly faultSince: Date | null
  readonly faults: number
  readonly polledAt: Date | null
  /** Since it was looked up last, by the database’s clock. */
  readonly silentSeconds: number | null
  readonly madeBy: string
  readonly changedAt: Date
}

type RawRow = Omit<SourceRow, 'definition' | 'columns' | 'samples' | 'taken'> & {
  definition: string
  columns: string | null
  samples: string | null
  taken: number
}

const columns = sql`no, app_no as appNo, environment, name, version, cast(definition as char) as definition, sealed, shape,
  taken, cast(columns as char) as columns, cast(samples as char) as samples, note, left_out as leftOut, fault, fault_since as faultSince, faults,
  polled_at as polledAt, timestampdiff(second, polled_at, utc_timestamp(3)) as silentSeconds, made_by as madeBy, changed_at as changedAt`

const rowOf = ({ definition, columns: kept, samples, taken, ...rest }: RawRow): SourceRow => ({
  ...rest,
  definition: JSON.parse(definition) as SourceDefinition,
  columns: kept === null ? null : (JSON.parse(kept) as Record<string, string>),
  samples: samples === null ? [] : (JSON.parse(samples) as unknown[]),
  taken: taken === 1,
})

/** By name. @param after the name of the last one before */
export async function listSources(reader: Reader, where: Where, limit: number, after = ''): Promise<SourceRow[]> {
  const rows = await reader.rows<RawRow>(
    sql`select ${columns} from sources where ${inWhere(where)} and name > ${after} order by name limit ${limit}`,
  )
  return rows.map(rowOf)
}

export async function findSource(reader: Reader, where: Where, name: string): Promise<SourceRow | undefined> {
  const [row] = await reader.rows<RawRow>(
    sql`select ${columns} from sources where ${inWhere(where)} and name = ${name}`,
  )
  return row && rowOf(row)
}

export async function findSourceByNo(reader: Reader, no: number): Promise<SourceRow | undefined> {
  const [row] = await reader.rows<RawRow>(sql`select ${columns} from sources where no = ${no}`)
  return row && rowOf(row)
}

/** The one that answers at an address. @param digest of what stands in the address */
export async function sourceOfAddress(reader: Reader, digest: Buffer): Promise<SourceRow | undefined> {
  const [row] = await reader.rows<RawRow>(sql`select ${columns} from sources where address = ${digest}`)
  return row && rowOf(row)
}

export async function countOtherSources(reader: Reader, where: Where, name: string): Promise<number> {
  const [row] = await reader.rows<{ count: number }>(
    sql`select count(*) as count from sources where ${inWhere(where)} and name <> ${name}`,
  )
  return row?.count ?? 0
}

/** Saves one under its name. what it looked like is forgotten when it watches something else from now on. */
export async function saveSource(
  database: Database,
  where: Where,
  given: Pick<SourceRow, 'name' | 'definition' | 'sealed' | 'shape' | 'madeBy'> & { readonly address: Buffer | null },
): Promise<void> {
  const { name, definition, sealed, shape, address, madeBy } = given
  await database.transactAnew(async (tx) => {
    const [before] = await tx.rows<{ no: number; shape: Buffer }>(
      sql`select no, shape from sources where ${inWhere(where)} and name = ${name} for update`,
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

/** The next look takes in what is there, and rings nobody. */
export async function pruneState(tx: Tx, no: number): Promise<void> {
  await tx.change(sql`delete from source_pages where source_no = ${no}`)
  await tx.change(
    sql`update sources set taken = false, state = null, columns = null, samples = null, note = null, left_out = null, polled_at = null where no = ${no}`,
  )
}

export async function deleteSource(database: Database, { no, appNo, environment }: SourceRow): Promise<void> {
  await database.transact(async (tx) => {
    await tx.change(sql`delete from sources where no = ${no}`)
    await tx.change(sql`delete from source_pages where source_no = ${no}`)
    await tx.change(sql`delete from trigger_events where ${inWhere({ appNo, environment })} and source_no = ${no}`)
  })
}

/** Triggers that read a source, by name. */
export async function triggersReading(reader: Reader, where: Where, source: string): Promise<string[]> {
  const rows = await reader.rows<{ name: string }>(
    sql`select name from triggers where ${inWhere(where)} and source = ${source} order by name limit 100`,
  )
  return rows.map(({ name }) => name)
}

/** Sources that could not be looked at, for those who watch. */
export const awaySources = (
  reader: Reader,
  where: Where,
): Promise<{ name: string; because: string; sinceSeconds: number }[]> =>
  reader.rows(
    sql`select name, fault as because, timestampdiff(second, fault_since, utc_timestamp(3)) as sinceSeconds from sources where ${inWhere(where)} and fault is not null order by name limit 20`,
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
    sql`update sources set sealed = ${after} where no = ${no} and sealed = ${before}`,
  )
  return affectedRows === 1
}

/** Keeps what came last, the newest first. */
export const keepSamples = (tx: Tx, no: number, samples: readonly unknown[]) =>
  tx.change(sql`update sources set samples = ${wellFormedJson(samples)}, polled_at = utc_timestamp(3) where no = ${no}`)
