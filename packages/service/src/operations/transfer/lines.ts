import { createInterface } from 'node:readline'
import { Readable } from 'node:stream'
import { CsvError, parse } from 'csv-parse'

/** One record of a file, or what is wrong with it. Lines count from 1. */
export type Line = { readonly line: number; readonly value: unknown } | { readonly line: number; readonly says: string }

/** A longer line is no record of ours, and is not kept in memory. */
const maxLineBytes = 65_536

/** The whole file cannot be read on. */
export class FileBroken extends Error {
  override readonly name = 'FileBroken'
}

/** Reads NDJSON line by line; memory holds one line at a time. */
export async function* ndjsonLines(input: Readable): AsyncGenerator<Line> {
  let line = 0
  // The request must not end with the reading: its answer is still to come.
  const chunks = input.iterator({ destroyOnReturn: false }) as AsyncGenerator<Buffer>
  for await (const text of createInterface({
    input: Readable.from(bounded(chunks)),
    crlfDelay: Number.POSITIVE_INFINITY,
  })) {
    line++
    if (text.trim() === '') continue
    try {
      yield { line, value: JSON.parse(text) as unknown }
    } catch {
      yield { line, says: 'is not JSON' }
    }
  }
}

/** Lets lines through, as long as none grows without end. */
async function* bounded(input: AsyncGenerator<Buffer>): AsyncGenerator<Buffer> {
  let open = 0
  for await (const chunk of input) {
    const end = chunk.lastIndexOf(10)
    open = end < 0 ? open + chunk.length : chunk.length - end
    if (open > maxLineBytes)
      throw new FileBroken(`There is a line of more than ${maxLineBytes.toLocaleString('en')} bytes.`)
    yield chunk
  }
}

/** A formula must not run in a spreadsheet, so a cell that looks like one was written with a mark before it. */
const marked = /^'(?=[=+\-@\t\r])/

/** As many attributes as an app may have, and what else is said of people. */
const maxColumns = 220

function bounds(heading: string[]): string[] {
  if (heading.length > maxColumns) throw new FileBroken(`The heading has more than ${maxColumns} columns.`)
  return heading
}

/** The parser takes a piece at once, and nobody else is served meanwhile: 64 kB of small cells take it tens of milliseconds. */
const pieceBytes = 8_192

async function* inPieces(input: Readable): AsyncGenerator<Buffer> {
  for await (const chunk of input.iterator({ destroyOnReturn: false }) as AsyncGenerator<Buffer>)
    for (let at = 0; at < chunk.length; at += pieceBytes) yield chunk.subarray(at, at + pieceBytes)
}

/** Reads CSV (RFC 4180) with a heading; empty cells are left out. */
export async function* csvLines(input: Readable): AsyncGenerator<Line> {
  const pieces = Readable.from(inPieces(input))
  const rows = pieces.pipe(
    parse({
      columns: bounds,
      bom: true,
      info: true,
      skip_empty_lines: true,
      max_record_size: maxLineBytes,
      trim: true,
    }),
  )
  pieces.once('error', (error) => rows.destroy(error))
  rows.once('close', () => pieces.destroy())
  try {
    for await (const row of rows) {
      const { record, info } = row as { record: Record<string, string>; info: { lines: number } }
      const cells = Object.entries(record).filter(([, cell]) => cell !== '')
      yield {
        line: info.lines,
        value: Object.fromEntries(cells.map(([name, cell]) => [name, cell.replace(marked, '')])),
      }
    }
  } catch (error) {
    if (error instanceof CsvError)
      throw new FileBroken(
        `The file is not CSV from line ${Number(error.lines ?? 0)} on: ${csvWords[error.code] ?? 'it cannot be read'}.`,
      )
    throw error
  }
}

const csvWords: Partial<Record<string, string>> = {
  CSV_RECORD_INCONSISTENT_COLUMNS: 'the row has another number of cells than the heading',
  CSV_RECORD_INCONSISTENT_FIELDS_LENGTH: 'the row has another number of cells than the heading',
  CSV_QUOTE_NOT_CLOSED: 'a quote is never closed',
  CSV_INVALID_CLOSING_QUOTE: 'something stands behind a closing quote',
  INVALID_OPENING_QUOTE: 'a quote stands in the middle of a cell',
  CSV_MAX_RECORD_SIZE: 'a row is too long',
}
