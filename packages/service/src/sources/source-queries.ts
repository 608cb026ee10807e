import { beginningOf } from '@zbell/core'
import { type PollSource, pageOfKey, type Row, TableSnapshot, type TableSource } from '@zbell/core/triggers'
import type { Database } from '../database/index.ts'
import { EvaluationsBusy, type EvaluatorPool } from '../evaluation/index.ts'
import type { Vault } from '../vault/index.ts'
import { evaluateToJson } from './expressions.ts'
import { SourceFault } from './fault.ts'
import { unpacked } from './packed.ts'
import type { ReaderPool, SourceReader } from './reader-pool.ts'
import { openSecrets } from './secrets.ts'
import { readPage } from './store/polls.ts'
import type { SourceRow } from './store/sources.ts'
import type { ColumnTypes } from './table-reader.ts'

export type QueryParts = {
  readonly database: Database
  readonly vault: Vault
  readonly evaluators: EvaluatorPool
  readonly readers: ReaderPool
}

/** Asks a source on behalf of whoever needs to know now, beside its polls. */
export class SourceQueries {
  readonly #parts: QueryParts

  constructor(parts: QueryParts) {
    this.#parts = parts
  }

  /** What a database shows, on a connection of its own. @throws {SourceFault} */
  withReader<T>(
    { appNo }: Pick<SourceRow, 'appNo'>,
    source: TableSource,
    url: string,
    work: (reader: SourceReader) => Promise<T>,
  ): Promise<T> {
    return this.#parts.readers.read({ appNo, from: { is: 'database', sourceNo: undefined, url, source } }, work)
  }

  /** What the expression of a polled source makes of an answer. @throws {SourceFault} */
  async withRows<T>(
    { appNo }: Pick<SourceRow, 'appNo'>,
    source: PollSource,
    text: string,
    work: (reader: SourceReader) => Promise<T>,
    signal?: AbortSignal,
  ): Promise<T> {
    const json = await this.#rowsOf(source, text, appNo)
    return this.#parts.readers.read({ appNo, from: { is: 'answer', json, source }, signal }, work)
  }

  /** Types of the columns of a source by name, so far as they are known: of all while it can be asked. */
  async typesOf(source: SourceRow): Promise<ColumnTypes> {
    const { definition } = source
    const known = source.columns ?? {}
    if (definition.kind !== 'table') return {}
    try {
      const { url = '' } = openSecrets(this.#parts.vault, source)
      const { columns } = await this.withReader(source, definition, url, (reader) => reader.sample())
      return Object.fromEntries(columns.map(({ name, type }) => [name, type]))
    } catch (error) {
      if (error instanceof SourceFault) return known
      throw error
    }
  }

  /** Rows as they are by now, by their keys; those that are gone are not among them. @throws {SourceFault} */
  async freshRows(
    source: SourceRow,
    rows: readonly { readonly key: string; readonly row: Row }[],
  ): Promise<ReadonlyMap<string, Row>> {
    const { database, vault } = this.#parts
    const { definition } = source
    switch (definition.kind) {
      case 'table': {
        const { url = '' } = openSecrets(vault, source)
        return this.withReader(source, definition, url, (reader) =>
          reader.rows(
            rows.map(({ row }) => row),
            source.columns ?? {},
          ),
        )
      }
      case 'poll':
      case 'segment': {
        const look =
          definition.kind === 'poll'
            ? new TableSnapshot(definition.key, definition.watch)
            : new TableSnapshot(['user'], ['segment'])
        const found = new Map<string, Row>()
        for (const { key, row } of rows) {
          const page = await unpacked(await readPage(database, source.no, pageOfKey(key)))
          const now = look.find(page, key)
          if (now) found.set(key, { ...row, ...now })
        }
        return found
      }
      case 'incoming':
        return new Map(rows.map(({ key, row }) => [key, row]))
      default:
        return definition satisfies never
    }
  }

  /** The rows of an answer, as JSON. @throws {SourceFault} */
  async #rowsOf({ rows }: PollSource, text: string, appNo: number): Promise<string> {
    const evaluation = { expression: rows, json: text }
    const json = await evaluateToJson(this.#parts.evaluators, { appNo }, evaluation).catch((error: unknown) => {
      if (!(error instanceof SourceFault || error instanceof EvaluationsBusy)) throw error
      throw new SourceFault(`has an expression “rows” that fails: ${error.message}`)
    })
    if (json === undefined) throw new SourceFault(`answered what is not JSON: ${beginningOf(text, 60)}`)
    return json
  }
}
