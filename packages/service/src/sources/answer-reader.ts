import { isNestedTooDeep, keyOfRow, type PollSource, type Row, TableRefused, TableSnapshot } from '@zbell/core/triggers'
import { SourceFault } from './fault.ts'
import { fieldsOf } from './fields.ts'
import { boundedRow, isWithinBounds } from './sql-connection.ts'

type AnsweredRow = Readonly<Record<string, unknown>>

/** The rows that the expression of a polled source made of an answer. */
export class AnswerReader {
  readonly #source: PollSource
  readonly #rows: readonly AnsweredRow[]

  /** @param json what the expression made @throws {SourceFault} for what are no rows */
  constructor(source: PollSource, json: string) {
    this.#source = source
    this.#rows = rowsIn(JSON.parse(json))
  }

  async snapshot(): Promise<{ readonly snapshot: TableSnapshot; readonly types: Readonly<Record<string, string>> }> {
    const snapshot = new TableSnapshot(this.#source.key, this.#source.watch)
    for (const row of this.#rows) snapshot.see(this.#whole(row))
    return { snapshot, types: {} }
  }

  /** Whole rows by their keys; of a row that is too large or too deep there is what is watched of it. */
  async rows(wanted: readonly Row[]): Promise<Map<string, Row>> {
    const { key } = this.#source
    const keys = new Set(wanted.map((row) => keyOfRow(row, key)))
    const found = new Map<string, Row>()
    for (const row of this.#rows) {
      const own = keyOrNothing(this.#whole(row), key)
      if (own === undefined || !keys.has(own) || isNestedTooDeep(row)) continue
      const bounded = boundedRow(row as Row)
      if (isWithinBounds(bounded)) found.set(own, bounded)
    }
    return found
  }

  async sample() {
    return { columns: fieldsOf(this.#rows), rows: this.#rows.slice(-3) as readonly Row[] }
  }

  #whole(row: AnsweredRow): Row {
    const named = [...this.#source.key, ...(this.#source.watch ?? [])]
    return { ...Object.fromEntries(named.map((name) => [name, null])), ...row } as Row
  }
}

/** @throws {SourceFault} */
function rowsIn(made: unknown): readonly AnsweredRow[] {
  const rows = Array.isArray(made) ? made : made === null ? [] : [made]
  const wrong = rows.find((row) => typeof row !== 'object' || row === null || Array.isArray(row))
  if (wrong === undefined) return rows as AnsweredRow[]
  throw new SourceFault(
    `has an expression “rows” that makes ${JSON.stringify(wrong).slice(0, 60)} where an object is meant`,
  )
}

function keyOrNothing(row: Row, key: readonly string[]): string | undefined {
  try {
    return keyOfRow(row, key)
  } catch (error) {
    if (error instanceof TableRefused) return undefined
    throw error
  }
}
