import type { Direction } from '@zbell/contract'
import { type SQL, sql } from 'drizzle-orm'

/** What a list can be put in order by. */
export type SortKey = {
  /** An SQL expression over the list's row. */
  readonly by: SQL
  /** It is the row's own number. */
  readonly isNumber?: boolean
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
  { by, isNumber, nullable, unique }: SortKey,
  no: SQL,
  direction: Direction,
  after: string | undefined,
) {
  const [beyond, way] = direction === 'ascending' ? [sql`>`, sql`asc`] : [sql`<`, sql`desc`]
  return {
    column: sql`cast(${by} as char) as sortedBy`,
    orderBy: sql`${nullable ? sql`${by} is null, ` : sql``}${by} ${way}${unique ? sql`` : sql`, ${no} ${way}`}`,
    where: behind(),
  }

  function behind(): SQL {
    if (after === undefined) return sql`true`
    const place = readPlace(after)
    if (!place) return sql`false`
    const [key, number] = place
    if (isNumber) return sql`${no} ${beyond} ${number}`
    if (unique) return sql`${by} ${beyond} ${key}`
    if (key === null) return sql`${by} is null and ${no} ${beyond} ${number}`
    const either = sql`${by} ${beyond} ${key} or (${by} = ${key} and ${no} ${beyond} ${number})`
    if (nullable) return sql`(${either} or ${by} is null)`
    // Said once more as a single bound, which an index can begin at.
    return sql`${by} ${beyond}= ${key} and (${either})`
  }
}

/** Where a row stands, to go on behind it. */
export const placeOf = ({ sortedBy, no }: Placed): string =>
  Buffer.from(JSON.stringify([sortedBy, no])).toString('base64url')

/** Whether `placeOf` may have named it. */
export const isPlace = (after: string): boolean => readPlace(after) !== undefined

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
