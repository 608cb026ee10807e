import { Readable } from 'node:stream'
import { pipeline } from 'node:stream/promises'
import { stringify } from 'csv-stringify'
import type { Response } from 'express'

export const ndjson = 'application/x-ndjson'

type Row = Record<string, unknown>

export type FileToSend = {
  /** Without its ending. */
  readonly name: string
  readonly format: 'csv' | 'ndjson'
  readonly columns: readonly string[]
  readonly rows: AsyncGenerator<Row>
}

/** Streams rows as a file to be saved, as fast as they are taken. */
export async function sendFile(response: Response, { name, format, columns, rows }: FileToSend): Promise<void> {
  response.setHeader('Content-Disposition', `attachment; filename="${name}.${format}"`)
  if (format === 'csv') {
    // Cells that look like a formula are marked, so that none runs in a spreadsheet.
    const csv = stringify({ header: true, columns: [...columns], escape_formulas: true, cast: { boolean: String } })
    await pipeline(Readable.from(flat(rows)), csv, response.type('text/csv'))
  } else await pipeline(Readable.from(lines(rows)), response.type(ndjson))
}

async function* lines(rows: AsyncGenerator<Row>) {
  for await (const row of rows) yield `${JSON.stringify(row)}\n`
}

/** A table has no depth: attributes become columns of their own, topics stand with spaces between. */
async function* flat(rows: AsyncGenerator<Row>) {
  for await (const { attributes, topics, ...row } of rows) {
    const cells = {
      ...row,
      ...(attributes as object | undefined),
      ...(Array.isArray(topics) ? { topics: topics.join(' ') } : {}),
    }
    yield Object.fromEntries(Object.entries(cells).map(([name, value]) => [name, cellOf(value)]))
  }
}

const cellOf = (value: unknown): unknown =>
  typeof value === 'object' && value !== null && 'longitude' in value && 'latitude' in value
    ? `${value.longitude},${value.latitude}`
    : value
