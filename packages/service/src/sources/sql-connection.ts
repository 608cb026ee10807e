import type { Cell, Row } from '@zbell/core/triggers'
import { cutText, tableLimits } from '@zbell/core/triggers'

/** What a column holds, as rules see it. */
export type ColumnType = 'number' | 'text' | 'timestamp' | 'boolean' | 'binary'

export type Column = {
  readonly name: string
  readonly type: ColumnType
  /** Whole numbers, which a cursor keeps to the last digit. */
  readonly isWhole: boolean
}

/** A value as a driver gives it; moments as text, to the last digit. */
export type RawValue = string | number | boolean | bigint | Buffer | null

/** A connection to a database that is somebody else’s: it reads, within bounds, and nothing more. */
export type SqlConnection = {
  readonly dialect: 'mysql' | 'postgres'
  /** One state of the database for all that is read until the end. */
  begin(): Promise<void>
  end(): Promise<void>
  /**
   * Reads row by row; what is thrown while a row is taken ends it.
   * @returns the columns, also of no rows
   */
  each(
    text: string,
    values: readonly RawValue[],
    take: (values: readonly RawValue[], columns: readonly Column[]) => void,
  ): Promise<readonly Column[]>
  /** Says so to the server, and waits for nothing. */
  hangUp(): void
  /** At once, whatever is under way. */
  destroy(): void
}

/** As a rule sees it. A whole number beyond 2^53 is text, so that it still names what it names. */
export function cellOf(value: RawValue, { type }: Column): Cell {
  if (value === null) return null
  switch (type) {
    case 'number': {
      const number = Number(value)
      if (!Number.isFinite(number)) return null
      return Number.isInteger(number) && !Number.isSafeInteger(number) ? String(value) : number
    }
    case 'boolean':
      return Buffer.isBuffer(value) ? value.some((byte) => byte !== 0) : value === 't' || value === true || value === 1
    case 'timestamp': {
      const moment = new Date(
        `${String(value)
          .replace(' ', 'T')
          .replace(/(?:\+00(?::?00)?)?$/, '')}Z`,
      )
      return Number.isNaN(moment.getTime()) ? null : moment
    }
    case 'binary':
      return Buffer.isBuffer(value) ? value.toString('hex') : String(value).replace(/^\\x/, '')
    case 'text':
      return Buffer.isBuffer(value) ? value.toString('utf8') : String(value)
    default:
      return type satisfies never
  }
}

export const rowOf = (values: readonly RawValue[], columns: readonly Column[]): Row =>
  Object.fromEntries(columns.map((column, at) => [column.name, cellOf(values[at] ?? null, column)]))

/** A row that waits for triggers may take so many characters. */
const rowChars = 32_000

export const isWithinBounds = (row: Row): boolean => JSON.stringify(row).length <= rowChars

/** A row with its long texts cut, so that what somebody wrote into a column costs no more than its place. */
export function boundedRow(row: Row): Row {
  const cut = (most: number): Row =>
    Object.fromEntries(
      Object.entries(row).map(([name, cell]) => [name, typeof cell === 'string' ? cutText(cell, most) : cell]),
    )
  const bounded = cut(tableLimits.textChars)
  return isWithinBounds(bounded) ? bounded : cut(200)
}
