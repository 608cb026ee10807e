import {
  type CursorRow,
  type CursorValue,
  keyOfRow,
  overlapDefault,
  type Row,
  sourceLimits,
  TableRefused,
  TableSnapshot,
  type TableSource,
} from '@zbell/core/triggers'
import { SourceFault } from './fault.ts'
import { boundedRow, type Column, type RawValue, rowOf, type SqlConnection } from './sql-connection.ts'

/** Types of columns by name. */
export type ColumnTypes = Readonly<Record<string, string>>

/** A row that was read by its cursor. */
export type ReadRow = CursorRow & { readonly row: Row; readonly raw: readonly RawValue[] }

/** Where a step goes on: behind this row. */
export type Place = { readonly cursor: CursorValue; readonly keys: readonly RawValue[] }

/** So many rows of a statement with keys in it. */
const keysTogether = 200
/** Whole numbers are kept as text of one length, from the least there is, so that they sort as text and keep each digit. */
const least = 2n ** 63n
const digits = 20

/** Reads a table, a view or a statement of somebody else’s database. */
export class TableReader {
  readonly #on: SqlConnection
  readonly #source: TableSource

  constructor(on: SqlConnection, source: TableSource) {
    this.#on = on
    this.#source = source
  }

  /** What is watched of it, whole: at most {@link tableLimits.rows} rows. @throws {SourceFault} */
  async snapshot(): Promise<{ readonly snapshot: TableSnapshot; readonly types: ColumnTypes }> {
    const { key, watch } = this.#source
    const names = watch && [...new Set([...key, ...watch])]
    let snapshot: TableSnapshot | undefined
    // Columns that nobody names are known with the first row, or with the end of a table without any.
    const snapshotBy = (columns: readonly Column[]): TableSnapshot =>
      new TableSnapshot(
        key,
        watch ??
          columnsWithin(columns)
            .map(({ name }) => name)
            .sort(),
      )
    const columns = await this.#each(`select ${this.#list(names)} from ${this.#from}`, [], (values, of) => {
      snapshot ??= snapshotBy(of)
      snapshot.see(rowOf(values, of))
    })
    return { snapshot: snapshot ?? snapshotBy(columns), types: typesOf(columns, names) }
  }

  /** Whole rows by their keys: those that are there. */
  async rows(rows: readonly Row[], types: ColumnTypes): Promise<Map<string, Row>> {
    const { key } = this.#source
    const found = new Map<string, Row>()
    for (let at = 0; at < rows.length; at += keysTogether) {
      const some = rows.slice(at, at + keysTogether)
      const values = some.flatMap((row) => key.map((column) => parameterOfCell(row[column], types[column])))
      const marks = some.map((_, i) => `(${key.map((_column, j) => this.#mark(i * key.length + j + 1)).join(', ')})`)
      const named = key.length === 1 ? this.#name(key[0]!) : `(${key.map((one) => this.#name(one)).join(', ')})`
      const text = `select * from ${this.#from} where ${named} in (${marks.join(', ')})`
      await this.#each(text, values, (raw, columns) => {
        const row = rowOf(raw, columnsWithin(columns))
        found.set(keyOfRow(row, key), boundedRow(row))
      })
    }
    return found
  }

  /** Rows with the greatest value of the cursor, and the types of the columns. */
  async last(): Promise<{ readonly rows: readonly CursorRow[]; readonly types: ColumnTypes }> {
    const cursor = this.#name(this.#cursor)
    const most = 5_000
    const names = [...new Set([this.#cursor, ...this.#source.key])]
    const rows: CursorRow[] = []
    const columns = await this.#each(
      `select ${this.#list(names)} from ${this.#from} where ${cursor} = (select max(${cursor}) from ${this.#from}) limit ${most}`,
      [],
      (values, of) => {
        const at = of.findIndex(({ name }) => name === this.#cursor)
        const value = cursorOf(values[at] ?? null, of[at])
        const key = keyOrNothing(rowOf(values, of), this.#source.key)
        if (key !== undefined) rows.push({ cursor: value, key })
      },
    )
    const column = columns.find(({ name }) => name === this.#cursor)
    if (column && column.type !== 'number' && column.type !== 'timestamp')
      throw new SourceFault(`has a cursor that is ${column.type}; it has to be a number or a time that only grows`)
    return { rows, types: typesOf(columns, names) }
  }

  /**
   * The next rows by their cursor, oldest first.
   * @param from this value included; `null` for all that there is
   * @param behind where the step before ended
   * @returns the rows, with how many characters they have as JSON
   */
  async next(
    from: CursorValue | null,
    behind: Place | undefined,
    limit: number,
  ): Promise<{ readonly rows: readonly ReadRow[]; readonly chars: number; readonly types: ColumnTypes }> {
    const { key } = this.#source
    const cursor = this.#name(this.#cursor)
    const values: RawValue[] = []
    const mark = (value: RawValue): string => {
      values.push(value)
      return this.#mark(values.length)
    }
    const conditions = [`${cursor} is not null`]
    const start = behind?.cursor ?? from
    if (start !== null) conditions.push(`${cursor} >= ${mark(parameterOf(start))}`)
    if (behind) {
      // Where values are named by their order, they are said in the order in which they stand.
      const beyond = [`${cursor} > ${mark(parameterOf(behind.cursor))}`]
      for (const [at, column] of key.entries()) {
        const same = key.slice(0, at).map((other, i) => `${this.#name(other)} = ${mark(behind.keys[i] ?? null)}`)
        beyond.push(`(${[...same, `${this.#name(column)} > ${mark(behind.keys[at] ?? null)}`].join(' and ')})`)
      }
      conditions.push(`(${beyond.join(' or ')})`)
    }
    const order = [cursor, ...key.map((column) => this.#name(column))].join(', ')
    const text = `select * from ${this.#from} where ${conditions.join(' and ')} order by ${order} limit ${limit}`
    const rows: ReadRow[] = []
    let chars = 0
    const types = await this.#each(text, values, (raw, columns) => {
      const at = columns.findIndex(({ name }) => name === this.#cursor)
      const value = cursorOf(raw[at] ?? null, columns[at])
      const row = boundedRow(rowOf(raw, columnsWithin(columns)))
      const keys = key.map((column) => raw[columns.findIndex(({ name }) => name === column)] ?? null)
      chars += JSON.stringify(row).length
      // A row that cannot be named still moves the place on.
      rows.push({ cursor: value, key: keyOrNothing(row, key) ?? '', row, raw: keys })
    })
    return { rows, chars, types: typesOf(types, [this.#cursor, ...key]) }
  }

  /** Its columns, and the last three rows of it. */
  async sample(): Promise<{ readonly columns: readonly Column[]; readonly rows: readonly Row[] }> {
    const { cursor } = this.#source
    const order = cursor === undefined ? '' : ` order by ${this.#name(cursor)} desc`
    const rows: Row[] = []
    const columns = await this.#each(`select * from ${this.#from}${order} limit 3`, [], (values, of) => {
      rows.push(boundedRow(rowOf(values, columnsWithin(of))))
    })
    const missing = [
      ...this.#source.key,
      ...(this.#source.watch ?? []),
      ...(cursor === undefined ? [] : [cursor]),
    ].find((name) => !columns.some((column) => column.name === name))
    if (missing !== undefined) throw new SourceFault(`has no column ${missing}`)
    return { columns, rows }
  }

  /** @throws {SourceFault} */
  async #each(
    text: string,
    values: readonly RawValue[],
    take: (values: readonly RawValue[], columns: readonly Column[]) => void,
  ): Promise<readonly Column[]> {
    try {
      return await this.#on.each(text, values, take)
    } catch (error) {
      throw error instanceof TableRefused ? new SourceFault(error.message) : error
    }
  }

  get #cursor(): string {
    return this.#source.cursor ?? ''
  }

  get #from(): string {
    const { table, select } = this.#source
    if (table !== undefined)
      return table
        .split('.')
        .map((part) => this.#name(part))
        .join('.')
    // On lines of its own, so that a remark at its end ends there.
    return `(\n${(select ?? '').replace(/;\s*$/, '')}\n) as source`
  }

  #list(names: readonly string[] | undefined): string {
    return names?.map((name) => this.#name(name)).join(', ') ?? '*'
  }

  #name(name: string): string {
    const quote = this.#on.dialect === 'mysql' ? '`' : '"'
    return quote + name.replaceAll(quote, quote + quote) + quote
  }

  #mark(at: number): string {
    return this.#on.dialect === 'mysql' ? '?' : `$${at}`
  }
}

/** How much later than others a transaction may commit. */
export const overlapMs = ({ overlapSeconds = overlapDefault }: TableSource): number => overlapSeconds * 1_000

function columnsWithin(columns: readonly Column[]): readonly Column[] {
  if (columns.length > sourceLimits.columns)
    throw new SourceFault(`has ${columns.length} columns; ${sourceLimits.columns} at most: name those that are needed`)
  return columns
}

const typesOf = (columns: readonly Column[], names: readonly string[] | undefined): ColumnTypes =>
  Object.fromEntries(
    columns
      .filter(({ name }) => names === undefined || names.includes(name))
      .map(({ name, type }) => [name, type] as const)
      .sort(([a], [b]) => (a < b ? -1 : 1)),
  )

function keyOrNothing(row: Row, key: readonly string[]): string | undefined {
  try {
    return keyOfRow(row, key)
  } catch (error) {
    if (error instanceof TableRefused) return undefined
    throw error
  }
}

/** A cell as a statement takes it. */
function parameterOfCell(cell: Row[string] | undefined, type: string | undefined): RawValue {
  if (type === 'binary' && typeof cell === 'string') return Buffer.from(cell, 'hex')
  if (cell instanceof Date) return cell.toISOString().replace('T', ' ').replace('Z', '')
  return (cell ?? null) as RawValue
}

/** @throws {SourceFault} for a value that would not be the same when it is said again */
function cursorOf(value: RawValue, column: Column | undefined): CursorValue {
  if (!column) throw new SourceFault('has no column that is its cursor')
  if (column.type !== 'number' && column.type !== 'timestamp')
    throw new SourceFault(`has a cursor that is ${column.type}; it has to be a number or a time that only grows`)
  if (column.isWhole) return (BigInt(value as string) + least).toString().padStart(digits, '0')
  if (column.type === 'timestamp') return String(value)
  const number = Number(value)
  if (!Number.isFinite(number) || (Number.isInteger(number) && !Number.isSafeInteger(number)))
    throw new SourceFault(
      `has a cursor with the value ${String(value).slice(0, 40)}, which a fraction cannot hold to the last digit; a whole number can`,
    )
  return number
}

const parameterOf = (value: CursorValue): RawValue => {
  if (typeof value === 'number') return value
  return /^\d{20}$/.test(value) ? BigInt(value) - least : value
}
