/**
 * How far a table was read by a column that only grows. A transaction may commit late, with a value that others have gone
 * past; so what was read within the overlap is read again, and recognised. Where the overlap begins goes by this side’s
 * clock, so that it matters neither what the column means nor what the clock of the database shows.
 */

/** Text sorts as it stands, such as moments in ISO 8601. */
export type CursorValue = number | string

export type CursorRow = { readonly cursor: CursorValue; readonly key: string }

type Mark = readonly [atMs: number, cursor: CursorValue | null]

/** Plain, so that it can be kept. */
export type CursorState = {
  /** Where it stood when, in ms since the epoch, the oldest first; null: before all that there is. */
  readonly marks: readonly Mark[]
  /** What has been read from the first mark on. */
  readonly recent: readonly (readonly [cursor: CursorValue, key: string])[]
}

/** More than so many that were read within the overlap shorten it: memory is bounded before lateness is. */
export const maxRecent = 50_000

/**
 * As the first poll takes it in; it rings for nothing that is there.
 * @param last the rows with the greatest value, or nothing of an empty table
 */
export function cursorAt(last: readonly CursorRow[], nowMs: number): CursorState {
  return {
    marks: [[nowMs, last[0]?.cursor ?? null]],
    recent: last.map(({ cursor, key }) => [cursor, key] as const),
  }
}

/** From where to read, this value included; null for all that there is. */
export const readFrom = ({ marks }: CursorState): CursorValue | null => marks[0]?.[1] ?? null

/**
 * Takes rows that were read, in the order of their cursor from {@link readFrom} on.
 * @param overlapMs how late a transaction may commit
 * @returns those that had not been read before, and the state to keep with what becomes of them
 */
export function takeRows<R extends CursorRow>(
  { marks, recent }: CursorState,
  rows: readonly R[],
  nowMs: number,
  overlapMs: number,
): { readonly fresh: readonly R[]; readonly state: CursorState } {
  const known = new Set(recent.map(([cursor, key]) => identity(cursor, key)))
  const fresh = rows.filter(({ cursor, key }) => !known.has(identity(cursor, key)))
  const position = [marks.at(-1)?.[1] ?? null, rows.at(-1)?.cursor ?? null].sort(inOrder).at(-1) ?? null
  const all: Mark[] = [...marks, [nowMs, position]]
  // The first mark that counts is the last one that is older than the overlap.
  while (all.length > 1 && (all[1]?.[0] ?? nowMs) <= nowMs - overlapMs) all.shift()
  const read = [...recent, ...fresh.map(({ cursor, key }) => [cursor, key] as const)].sort(([a], [b]) => inOrder(a, b))
  let from = all[0]?.[1] ?? null
  const crowded = read.length > maxRecent ? read[read.length - maxRecent]?.[0] : undefined
  // Rows with the same value are all known or none of them, so a value is kept whole.
  if (crowded !== undefined && inOrder(crowded, from) > 0) from = crowded
  return {
    fresh,
    state: {
      marks: thinned(all, from, overlapMs),
      recent: read.filter(([cursor]) => inOrder(cursor, from) >= 0),
    },
  }
}

const identity = (cursor: CursorValue, key: string): string => `${cursor} ${key}`

/** Numbers by size, text as it stands; null before all. */
function inOrder(a: CursorValue | null, b: CursorValue | null): number {
  if (a === b) return 0
  if (a === null) return -1
  return b === null || a > b ? 1 : -1
}

/** A mark for about every twentieth of the overlap is enough. */
function thinned([first, ...later]: readonly Mark[], from: CursorValue | null, overlapMs: number): Mark[] {
  const kept: Mark[] = first ? [[first[0], from]] : []
  for (const mark of later) {
    if (inOrder(mark[1], from) < 0) continue
    const before = kept.at(-2)
    // The newest mark moves on until it is a step away from the one before: what is lost makes the overlap longer.
    if (before && mark[0] - before[0] < overlapMs / 20) kept.pop()
    kept.push(mark)
  }
  return kept
}
