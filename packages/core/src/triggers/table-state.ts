import { beginningOf } from '../content/well-formed.ts'
/**
 * What a table looked like, so that the next poll finds what is new, changed and gone. Rows are put into pages by their
 * key; a page is text, so that one that has not changed is recognised without being read, and can be packed by whoever
 * keeps it.
 */

/** A cell as a source gives it: numbers are doubles, moments are dates; what a polled answer nests stays nested. */
export type Cell = string | number | boolean | null | Date | readonly unknown[] | { readonly [name: string]: unknown }
export type Row = { readonly [column: string]: Cell }

export const tableLimits = Object.freeze({
  rows: 200_000,
  keyChars: 200,
  textChars: 4_000,
  rowChars: 16_000,
  /** Of all rows together, in what is watched of them; and of those in one page, into which keys can be chosen to fall. */
  lookChars: 32_000_000,
  pageChars: 4_000_000,
  /** What the database takes is 32, with what stands around a row. */
  depth: 24,
  pages: 256,
})

/** A row that came, went or became another. */
export type RowChange = {
  readonly key: string
  /** The last state of one that is gone. */
  readonly row: Row
  /** Empty for one that is new. */
  readonly before: Row
  readonly gone: boolean
}

/** A table cannot be compared as it is. */
export class TableRefused extends Error {
  override readonly name = 'TableRefused'
}

/** What names a row: the text of its key, or of the parts of its key. @throws {TableRefused} for one that has none */
export function keyOfRow(row: Row, columns: readonly string[]): string {
  const parts = columns.map((column) => {
    const cell = row[column]
    if (cell === undefined) throw new TableRefused(`has no column ${column}, which its key needs`)
    if (cell === null) throw new TableRefused(`has a row whose ${column} is NULL, so that it has no key`)
    return cell instanceof Date ? cell.toISOString() : String(cell)
  })
  const [only] = parts
  const key = parts.length === 1 && only !== undefined ? only : JSON.stringify(parts)
  if (key.length > tableLimits.keyChars)
    throw new TableRefused(
      `has a key of ${key.length.toLocaleString('en')} characters; ${tableLimits.keyChars} at most`,
    )
  return key
}

/** Which page a key belongs to, from 0: FNV-1a over its UTF-16 units. */
export function pageOfKey(key: string): number {
  let hash = 0x811c9dc5
  for (let at = 0; at < key.length; at++) hash = Math.imul(hash ^ key.charCodeAt(at), 0x01000193)
  return ((hash >>> 24) ^ (hash >>> 16) ^ (hash >>> 8) ^ hash) & (tableLimits.pages - 1)
}

/** A text as long as may be, and by its end that there was more. */
export const cutText = (text: string, most: number = tableLimits.textChars): string =>
  text.length <= most ? text : `${beginningOf(text, most - 1)}…`

/** What one poll read of a table, row by row. */
export class TableSnapshot {
  readonly #key: readonly string[]
  readonly #watched: readonly string[] | undefined
  readonly #pages: string[][] = Array.from({ length: tableLimits.pages }, () => [])
  #rows = 0
  #chars = 0
  readonly #pageChars = new Uint32Array(tableLimits.pages)
  #leftOut = 0
  #firstLeftOut: string | undefined

  /**
   * @param watched columns that stand in `before` and `row`, and whose changes count; all that a row has, where rows need not
   * have the same
   */
  constructor(key: readonly string[], watched: readonly string[] | undefined) {
    this.#key = key
    this.#watched = watched && [...new Set([...key, ...watched])]
  }

  get rows(): number {
    return this.#rows
  }

  /** Rows that cannot be named or are too large hold up no others. */
  get leftOut(): { readonly count: number; readonly says: string } | undefined {
    return this.#firstLeftOut === undefined ? undefined : { count: this.#leftOut, says: this.#firstLeftOut }
  }

  /** @throws {TableRefused} for a column that is not there, or a row too many */
  see(row: Row): void {
    if (++this.#rows > tableLimits.rows)
      throw new TableRefused(`has more than ${tableLimits.rows.toLocaleString('en')} rows; read it by a cursor instead`)
    for (const column of this.#watched ?? [])
      if (row[column] === undefined) throw new TableRefused(`has no column ${column}`)
    const held = this.#lineOf(row)
    if (!held) return
    const { page, line } = held
    this.#pages[page]?.push(line)
    this.#chars += line.length
    this.#pageChars[page]! += line.length
    if (this.#chars > tableLimits.lookChars || this.#pageChars[page]! > tableLimits.pageChars)
      throw new TableRefused(
        `has more than ${tableLimits.lookChars.toLocaleString('en')} characters in its watched columns; watch fewer, or read it by a cursor`,
      )
  }

  /** What is held of a row; nothing of one that cannot be named or is too large. */
  #lineOf(row: Row): { readonly page: number; readonly line: string } | undefined {
    try {
      const key = keyOfRow(row, this.#key)
      const line = JSON.stringify([key, ...this.#cells(row)])
      if (line.length > tableLimits.rowChars)
        throw new TableRefused(
          `has ${line.length.toLocaleString('en')} characters in the watched columns of ${key}; ${tableLimits.rowChars.toLocaleString('en')} at most`,
        )
      return { page: pageOfKey(key), line }
    } catch (error) {
      if (!(error instanceof TableRefused)) throw error
      this.#leftOut++
      this.#firstLeftOut ??= error.message
      return undefined
    }
  }

  #cells(row: Row): unknown[] {
    if (this.#watched) return this.#watched.map((column) => keptCell(row[column] ?? null))
    return [{ json: ordered(row) }]
  }

  /** A page as text. Equal texts are equal rows: nothing in it depends on the order in which they were read. */
  page(at: number): string {
    return this.#pages[at]?.sort().join('\n') ?? ''
  }

  /**
   * What changed within a page, by the texts of before and now.
   * @throws {TableRefused} for a key that stands twice, or a page of other columns
   */
  changes(before: string, now: string): RowChange[] {
    if (before === now) return []
    const was = this.#read(before)
    const is = this.#read(now)
    const changes: RowChange[] = []
    for (const [key, line] of is) {
      const old = was.get(key)
      if (old === line) continue
      changes.push({ key, row: this.#row(line), before: old === undefined ? {} : this.#row(old), gone: false })
    }
    for (const [key, line] of was)
      if (!is.has(key)) changes.push({ key, row: this.#row(line), before: this.#row(line), gone: true })
    return changes
  }

  /** The row of a key within a page. */
  find(page: string, key: string): Row | undefined {
    const line = this.#read(page).get(key)
    return line === undefined ? undefined : this.#row(line)
  }

  #read(page: string): Map<string, string> {
    const rows = new Map<string, string>()
    if (page === '') return rows
    for (const line of page.split('\n')) {
      const key = (JSON.parse(line) as [string])[0]
      if (rows.has(key)) throw new TableRefused(`has two rows with the key ${key}`)
      rows.set(key, line)
    }
    return rows
  }

  #row(line: string): Row {
    const [, ...cells] = JSON.parse(line) as [string, ...KeptCell[]]
    if (!this.#watched) return cellOf(cells[0] ?? null) as Row
    if (cells.length !== this.#watched.length) throw new TableRefused('was kept with other columns')
    return Object.fromEntries(this.#watched.map((column, at) => [column, cellOf(cells[at] ?? null)])) as Row
  }
}

/** As it stands in a page: what is no plain value says what it is. */
type KeptCell =
  | string
  | number
  | boolean
  | null
  | { readonly at: string }
  | { readonly json: unknown }
  | { readonly cut: string; readonly of: string }

function keptCell(cell: Cell): KeptCell {
  if (cell instanceof Date) return { at: cell.toISOString() }
  if (typeof cell === 'object' && cell !== null) return { json: ordered(cell) }
  if (typeof cell === 'string' && cell.length > tableLimits.textChars)
    // A change behind the cut is a change as well.
    return { cut: cutText(cell), of: `${cell.length} ${digestOf(cell)}` }
  return cell
}

function cellOf(kept: KeptCell): Cell {
  if (typeof kept !== 'object' || kept === null) return kept
  if ('at' in kept) return new Date(kept.at)
  return 'cut' in kept ? kept.cut : (kept.json as Cell)
}

/** Whether something is nested deeper than anybody means, so that whoever goes down into it would not come back. */
export const isNestedTooDeep = (value: unknown, level = 0): boolean =>
  level > tableLimits.depth ||
  (typeof value === 'object' && value !== null && Object.values(value).some((own) => isNestedTooDeep(own, level + 1)))

/** As it is kept: members in one order, whatever order they came in. @throws {TableRefused} */
function ordered(value: unknown): unknown {
  if (isNestedTooDeep(value)) throw new TableRefused(`has a row nested more than ${tableLimits.depth} levels deep`)
  return sorted(value)
}

function sorted(value: unknown): unknown {
  if (typeof value === 'string') return cutText(value)
  if (Array.isArray(value)) return value.map(sorted)
  if (typeof value !== 'object' || value === null) return value
  return Object.fromEntries(
    Object.entries(value)
      .sort(([a], [b]) => (a < b ? -1 : 1))
      .map(([name, own]) => [name, sorted(own)]),
  )
}

/** Two FNV-1a hashes that begin differently: nothing hangs on it but that a change is seen. */
function digestOf(text: string): string {
  let one = 0x811c9dc5
  let other = 0x050c5d1f
  for (let at = 0; at < text.length; at++) {
    const unit = text.charCodeAt(at)
    one = Math.imul(one ^ unit, 0x01000193)
    other = Math.imul(other ^ unit, 0x01000193)
  }
  return `${(one >>> 0).toString(36)}.${(other >>> 0).toString(36)}`
}
