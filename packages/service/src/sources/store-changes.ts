import { setImmediate as turn } from 'node:timers/promises'
import { type Row, type RowChange, tableLimits } from '@zbell/core/triggers'
import type { Database, Tx } from '../database/index.ts'
import { publish } from '../events/index.ts'
import { type ChangedRow, queuedChange } from './changes.ts'
import type { PagedSnapshot } from './paged-snapshot.ts'
import { differing, everySecondsOf, noteOfLate, type PollContext, rowsText } from './poll-context.ts'
import {
  endPoll,
  LeaseLost,
  pageDigests,
  prunePages,
  queueChanges,
  readPage,
  requireLease,
  storePage,
} from './store/polls.ts'
import type { ColumnTypes } from './table-reader.ts'

/** So many changes, or pages, go in a transaction. */
const changesTogether = 1_000
const pagesTogether = 64

/**
 * Holds a poll against the one before, and lets what is new, changed and gone wait for the triggers, page by page.
 * @param whole whole rows by their keys, where a poll has only what is watched of them
 */
export async function storeChanges(
  database: Database,
  { lease, source, late, isRead: hasReaders, signal }: PollContext,
  snapshot: PagedSnapshot,
  types: ColumnTypes,
  whole: ((rows: readonly Row[]) => Promise<ReadonlyMap<string, Row>>) | undefined,
  atEnd: (tx: Tx) => Promise<unknown> = async () => {},
): Promise<void> {
  const everySeconds = everySecondsOf(source.definition)
  const other = differing(source.columns, types)
  const isFirst = !source.taken || other !== undefined
  const before = new Map(
    isFirst ? [] : (await pageDigests(database, source.no)).map(({ page, digest }) => [page, digest]),
  )
  let changes: RowChange[] = []
  let pages: { readonly page: number; readonly digest: Buffer; readonly bytes: Buffer }[] = []
  let found = 0
  let isDropped = !isFirst
  const flush = async (end?: (tx: Tx) => Promise<void>) => {
    const events = hasReaders && changes.length > 0 ? await changedRows(changes, whole) : []
    const stored = pages
    const changed = changes
    found += changes.length
    changes = []
    pages = []
    await database.transact(async (tx) => {
      await requireLease(tx, lease)
      if (!isDropped) await prunePages(tx, source.no)
      for (const { page, digest, bytes } of stored) await storePage(tx, source.no, page, digest, bytes)
      await queueChanges(tx, source, source.no, events.map(queuedChange), late)
      if (source.definition.kind === 'segment' && changed.length > 0) await tellMembers(tx, source, changed)
      await end?.(tx)
    })
    isDropped = true
  }
  for (let page = 0; page < tableLimits.pages; page++) {
    // Between two pages whatever else this process does has its turn.
    if (page % 8 === 0) await turn()
    if (signal.aborted) throw new LeaseLost('the poll was given up')
    const { digest, isEmpty } = snapshot.digestOf(page)
    const old = before.get(page)
    if (old === undefined ? isEmpty : old.equals(digest)) continue
    // In a first poll too, so that a key that stands twice is found.
    const stored = isFirst || old === undefined ? undefined : await readPage(database, source.no, page)
    const inPage = await snapshot.changesOf(page, stored)
    if (!isFirst) changes.push(...inPage.changes)
    pages.push({ page, digest, bytes: inPage.packed })
    if (changes.length >= changesTogether || pages.length >= pagesTogether) await flush()
  }
  const { leftOut } = snapshot
  await flush(async (tx) => {
    await atEnd(tx)
    await endPoll(tx, lease, {
      everySeconds,
      ...(isFirst ? { columns: types } : {}),
      ...noteOf({ isFirst, wasTaken: source.taken, other, rows: snapshot.rows, late, found }),
      ...(leftOut ? { leftOut: `${rowsText(leftOut.count)} left out; the first ${leftOut.says}` } : {}),
    })
  })
}

/** Who came into a segment, and who is not in it any more. */
const tellMembers = (tx: Tx, source: PollContext['source'], changes: readonly RowChange[]): Promise<void> =>
  publish(tx, source, ['segment.entered', 'segment.left'], () =>
    changes.map(({ row, gone }) => {
      const { segment, user } = row
      return {
        kind: gone ? ('segment.left' as const) : ('segment.entered' as const),
        subject: String(segment),
        data: { segment, user },
      }
    }),
  )

async function changedRows(
  changes: readonly RowChange[],
  whole: ((rows: readonly Row[]) => Promise<ReadonlyMap<string, Row>>) | undefined,
): Promise<ChangedRow[]> {
  const there = changes.filter(({ gone }) => !gone)
  const rows = whole && there.length > 0 ? await whole(there.map(({ row }) => row)) : undefined
  return changes.map(({ key, row, before, gone }) => ({
    key,
    row: (gone ? undefined : rows?.get(key)) ?? row,
    before,
    gone,
  }))
}

function noteOf(what: {
  readonly isFirst: boolean
  readonly wasTaken: boolean
  readonly other: string | undefined
  readonly rows: number
  readonly late: number
  readonly found: number
}): { readonly note?: string } {
  const { isFirst, wasTaken, other, rows, late, found } = what
  const count = rowsText(rows)
  if (isFirst) return { note: wasTaken ? `read ${count} anew: ${other}` : `read ${count}` }
  return late > 0 ? { note: noteOfLate(late, found) } : {}
}
