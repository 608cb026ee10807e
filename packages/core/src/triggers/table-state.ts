/**
 * What a table looked like, so that the next look finds what is new, changed and gone. Rows are put into pages by their
 * key; a page is text, so that one that has not changed is recognised without being read, and can be packed by whoever
 * keeps it.
 */

/** A cell as a source gives it: numbers are doubles, moments are dates. */
export type Cell = string | number | boolean | null | Date
export type Row = { readonly [column: string]: Cell }

export const tableLimits = Object.freeze({ rows: 200_000, keyChars: 200, rowChars: 16_000, pages: 256 })

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

/** A look at a table, row by row. */
export class TableLook {
  readonly #key: readonly string[]
  readonly #watched: readonly string[]
  readonly #pages: string[][] = Array.from({ length: tableLimits.pages }, () => [])
  #rows = 0

  /** @param watched columns that stand in `before` and `row`, and whose changes count */
  constructor(key: readonly string[], watched: readonly string[]) {
    this.#key = key
    this.#watched = [...new Set([...key, ...watched])]
  }

  get rows(): number {
    return this.#rows
  }

  /** @throws {TableRefused} for a row without a key, one too large, or one too many */
  see(row: Row): void {
    if (++this.#rows > tableLimits.rows)
      throw new TableRefused(`has more than ${tableLimits.rows.toLocaleString('en')} rows; read it by a cursor instead`)
    const key = keyOfRow(row, this.#key)
    const line = JSON.stringify([
      key,
      ...this.#watched.map((column) => {
        const cell = row[column]
        if (cell === undefined) throw new TableRefused(`has no column ${column}`)
        return cell instanceof Date ? { at: cell.toISOString() } : cell
      }),
    ])
    if (line.length > tableLimits.rowChars)
      throw new TableRefused(
        `has ${line.length.toLocaleString('en')} characters in the watched columns of ${key}; ${tableLimits.rowChars.toLocaleString('en')} at most`,
      )
    this.#pages[pageOfKey(key)]?.push(line)
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
    const [, ...cells] = JSON.parse(line) as [string, ...(Cell | { readonly at: string })[]]
    if (cells.length !== this.#watched.length) throw new TableRefused('was kept with other columns')
    return Object.fromEntries(
      this.#watched.map((column, at) => {
        const cell = cells[at] ?? null
        return [column, typeof cell === 'object' && cell !== null && 'at' in cell ? new Date(cell.at as string) : cell]
      }),
    ) as Row
  }
}
