import type { Direction } from '@zbell/contract'

/** What a list can be put in order by. */
export type SortKey = {
  /** An SQL expression over the list's row. */
  readonly by: string
  /** It may be null; such rows come last, whichever way the others go. */
  readonly nullable?: boolean
  /** No two rows have the same. */
  readonly unique?: boolean
}

/** A column more that each row of the list brings along: what the order saw of it. */
export type Placed = { readonly sortedBy: string | null; readonly no: number }

/**
 * How one page of a list is cut out of it, after the last row of the page before: by what the order sees, and by the row's
 * number among equals. Rows that come or go meanwhile move no other across a page's edge.
 * @param no the expression of the row's own number
 * @param after a place that `placeOf` named; one that cannot be read has nothing behind it
 */
export function inOrder(
  { by, nullable, unique }: SortKey,
  no: string,
  direction: Direction,
  after: string | undefined,
) {
  const [beyond, way] = direction === 'ascending' ? ['>', 'asc'] : ['<', 'desc']
  return {
    column: `cast(${by} as char) as sortedBy`,
    orderBy: `${nullable ? `${by} is null, ` : ''}${by} ${way}${unique ? '' : `, ${no} ${way}`}`,
    ...behind(),
  }

  function behind(): { readonly where: string; readonly values: readonly unknown[] } {
    if (after === undefined) return { where: 'true', values: [] }
    const place = readPlace(after)
    if (!place) return { where: 'false', values: [] }
    const [key, number] = place
    if (by === no) return { where: `${no} ${beyond} ?`, values: [number] }
    if (unique) return { where: `${by} ${beyond} ?`, values: [key] }
    if (key === null) return { where: `${by} is null and ${no} ${beyond} ?`, values: [number] }
    const either = `${by} ${beyond} ? or (${by} = ? and ${no} ${beyond} ?)`
    if (nullable) return { where: `(${either} or ${by} is null)`, values: [key, key, number] }
    // Said once more as a single bound, which an index can begin at.
    return { where: `${by} ${beyond}= ? and (${either})`, values: [key, key, key, number] }
  }
}

/** Where a row stands, to go on behind it. */
export const placeOf = ({ sortedBy, no }: Placed): string =>
  Buffer.from(JSON.stringify([sortedBy, no])).toString('base64url')

function readPlace(after: string): readonly [string | null, number] | undefined {
  try {
    const place = JSON.parse(Buffer.from(after, 'base64url').toString()) as unknown
    if (!Array.isArray(place) || place.length !== 2 || !Number.isSafeInteger(place[1])) return undefined
    return place[0] === null || typeof place[0] === 'string' ? [place[0], place[1] as number] : undefined
  } catch (error) {
    if (error instanceof SyntaxError) return undefined
    throw error
  }
}
