import { type CursorState, cursorAt, readFrom, type TableSource, takeRows } from '@zbell/core/triggers'
import type { Database } from '../database/index.ts'
import { type ChangedRow, queuedChange } from './changes.ts'
import { packed, unpacked } from './packed.ts'
import { differing, everySecondsOf, maxWaiting, noteOfLate, type PollContext, rowsText } from './poll-context.ts'
import type { SourceReader } from './reader-pool.ts'
import { countQueued, endPoll, keepState, queueChanges, readState, requireLease } from './store/polls.ts'
import { overlapMs, type Place } from './table-reader.ts'

/**
 * So many rows are read by cursor at a time, and so many changes go in a transaction: few until it is known how large they are, then
 * as many as have about so many characters.
 */
const step = { firstRows: 100, maxRows: 5_000, chars: 2_000_000 }
/** After so long a poll by cursor goes on with the next, so that others have their turn. */
const stepsMs = 30_000

/**
 * Reads what lies behind the last row of a table that only grows. What is found waits for its triggers in the transaction in
 * which the cursor moves.
 */
export async function pollByCursor(
  database: Database,
  context: PollContext,
  definition: TableSource,
  reader: SourceReader,
): Promise<void> {
  const { lease, source, isRead: hasReaders, signal } = context
  const everySeconds = everySecondsOf(definition)
  const now = Date.now()
  const kept = source.taken ? await readState(database, source.no) : null
  const begin = async (anew: string | undefined) => {
    const { rows, types } = await reader.last()
    const state = await packed(JSON.stringify({ state: cursorAt(rows, now), late: 0 }))
    await database.transact(async (tx) => {
      await requireLease(tx, lease)
      await keepState(tx, source.no, state)
      const note = `begins ${anew === undefined ? '' : 'anew '}behind the rows that there are`
      await endPoll(tx, lease, {
        everySeconds,
        columns: types,
        note: anew === undefined ? note : `${note}: ${anew}`,
      })
    })
  }
  if (kept === null) return begin(undefined)
  let { state, late } = JSON.parse(await unpacked(kept)) as { state: CursorState; late: number }
  late = Math.max(late, context.late)
  const from = readFrom(state)
  let behind: Place | undefined
  let limit = step.firstRows
  let leftOut = 0
  let found = 0
  for (;;) {
    const { rows, chars, types } = await reader.next(from, behind, limit)
    const other = differing(source.columns, types)
    if (other !== undefined) return begin(other)
    const taken = takeRows(state, rows, now, overlapMs(definition))
    state = taken.state
    const fresh = taken.fresh.filter(({ key }) => key !== '')
    leftOut += taken.fresh.length - fresh.length
    found += fresh.length
    const isEnd = rows.length < limit
    limit = Math.max(1, Math.min(step.maxRows, Math.floor((step.chars * rows.length) / Math.max(1, chars))))
    const isEnough =
      !isEnd &&
      (Date.now() - now > stepsMs ||
        (hasReaders && (await countQueued(database, source, source.no, maxWaiting)) >= maxWaiting))
    const bytes = await packed(JSON.stringify({ state, late: isEnd ? 0 : late }))
    await database.transact(async (tx) => {
      await requireLease(tx, lease)
      const events = fresh.map(({ key, row }): ChangedRow => ({ key, row, before: {}, gone: false }))
      if (hasReaders) await queueChanges(tx, source, source.no, events.map(queuedChange), late)
      await keepState(tx, source.no, bytes)
      if (isEnd || isEnough)
        await endPoll(tx, lease, {
          everySeconds: isEnd ? everySeconds : 1,
          ...(late > 0 && found > 0 ? { note: noteOfLate(late, found) } : {}),
          ...(leftOut > 0 ? { leftOut: `${rowsText(leftOut)} left out: without a key, or with one too long` } : {}),
        })
    })
    if (isEnd || isEnough || signal.aborted) return
    const end = rows.at(-1)!
    behind = { cursor: end.cursor, keys: end.raw }
  }
}
