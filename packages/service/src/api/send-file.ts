import { Readable } from 'node:stream'
import { pipeline } from 'node:stream/promises'
import { stringify } from 'csv-stringify'
import type { Response } from 'express'
import { attributeColumn } from './attribute-columns.ts'

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
    await pipeline(Readable.from(flat(rows, columns)), csv, response.type('text/csv'))
  } else await pipeline(Readable.from(lines(rows)), response.type(ndjson))
}

async function* lines(rows: AsyncGenerator<Row>) {
  for await (const row of rows) yield `${JSON.stringify(row)}\n`
}

/** A table has no depth: attributes become columns of their own, topics stand with spaces between. */
async function* flat(rows: AsyncGenerator<Row>, columns: readonly string[]) {
  for await (const { attributes = {}, topics, ...row } of rows) {
    // By name in a map: whatever an attribute is called, an object would have something of its own under that name.
    const cells = new Map(Object.entries(row))
    for (const [name, value] of Object.entries(attributes as Row)) cells.set(attributeColumn(name), value)
    if (Array.isArray(topics)) cells.set('topics', topics.join(' '))
    yield columns.map((name) => cellOf(cells.get(name)))
  }
}

const cellOf = (value: unknown): unknown =>
  typeof value === 'object' && value !== null && 'longitude' in value && 'latitude' in value
    ? `${value.longitude},${value.latitude}`
    : value
