import { eq, type SQL, sql } from 'drizzle-orm'
import type { Database, Tx } from './database.ts'
import { build, commas } from './fragments.ts'
import { removals } from './schema.ts'
import { select } from './select.ts'

/** What can have very many rows of its own, and the tables that hold them, by the column with its number. */
const rowsOf = {
  topic: [sql`topic_devices where topic_no`, sql`topic_users where topic_no`],
  trigger: [sql`firings where trigger_no`, sql`trigger_versions where trigger_no`],
  schedule: [sql`schedule_runs where schedule_no`],
} satisfies Record<string, readonly SQL[]>
type Kind = keyof typeof rowsOf

/** So many rows go in one transaction, and so many things are looked at together. */
const batchSize = 5_000
const atOnce = 100

/** Leaves the rows of what the caller deletes in the same transaction, and which nobody sees any more, to be removed in pages. */
export async function leaveRows(tx: Tx, kind: Kind, numbers: readonly number[]): Promise<void> {
  for (let at = 0; at < numbers.length; at += batchSize)
    await tx.change(
      sql`insert into removals (kind, subject_no) values ${commas(numbers.slice(at, at + batchSize).map((no) => sql`(${kind}, ${no})`))}`,
    )
}

/** Removes rows of what was deleted, page by page; what is broken off is gone on with by the next run. */
export async function removeLeftRows(database: Database, mayGoOn: () => boolean): Promise<void> {
  for (;;) {
    const left = await select(
      database,
      { no: removals.no, kind: removals.kind, subjectNo: removals.subjectNo },
      sql`from ${removals} order by ${removals.no} limit ${atOnce}`,
    )
    if (left.length === 0) return
    for (const { no, kind, subjectNo } of left) {
      for (const rows of rowsOf[kind])
        for (let removed = batchSize; removed === batchSize; ) {
          if (!mayGoOn()) return
          removed = (await database.change(sql`delete from ${rows} = ${subjectNo} limit ${batchSize}`)).affectedRows
        }
      await database.change(build.delete(removals).where(eq(removals.no, no)))
    }
  }
}
