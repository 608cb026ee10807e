import { Readable } from 'node:stream'
import { pipeline } from 'node:stream/promises'
import { stringify } from 'csv-stringify'
import type { Response } from 'express'
import type { Database } from '../../store/database.ts'
import { exportLines, isTransferable } from '../../transfer/export-lines.ts'
import { importLines } from '../../transfer/import-lines.ts'
import { csvLines, FileBroken, ndjsonLines } from '../../transfer/lines.ts'
import { Problem } from '../problem.ts'
import type { OperationRouter } from '../serve-operation.ts'

const ndjson = 'application/x-ndjson'

export function serveTransfer(on: OperationRouter, database: Database, onChange: () => void): void {
  on.serve('exportList', async ({ caller: { scope }, params, query, response }) => {
    const what = needKind(params.what)
    const { columns, rows } = await exportLines(database, scope, what)
    const name = `${scope.app.slug}-${scope.environment}-${what}.${query.format}`
    response.setHeader('Content-Disposition', `attachment; filename="${name}"`)
    if (query.format === 'csv') await sendCsv(response, columns, rows)
    else await sendNdjson(response, rows)
    return undefined
  })

  on.serve('importList', async ({ caller: { scope }, params, request, response }) => {
    const what = needKind(params.what)
    const isCsv = request.is('text/csv')
    if (!isCsv && !request.is(ndjson))
      throw new Problem('unsupported-media-type', `Send the file as text/csv or ${ndjson}.`)
    try {
      const done = await importLines(database, scope, what, isCsv ? csvLines(request) : ndjsonLines(request))
      onChange()
      return done
    } catch (error) {
      // What is left of the file is let go by, so that whoever sends it can read the answer.
      request.unpipe()
      request.resume()
      response.setHeader('Connection', 'close')
      if (error instanceof FileBroken) throw new Problem('invalid-request', error.message)
      throw error
    }
  })
}

function needKind(text: string) {
  if (!isTransferable(text))
    throw new Problem('unknown-address', 'Devices, users and topics can be carried in and out.')
  return text
}

async function sendNdjson(response: Response, rows: AsyncGenerator<object>): Promise<void> {
  response.type(ndjson)
  const lines = async function* () {
    for await (const row of rows) yield `${JSON.stringify(row)}\n`
  }
  await pipeline(Readable.from(lines()), response)
}

/** Cells that look like a formula are marked, so that none runs in a spreadsheet. */
async function sendCsv(
  response: Response,
  columns: readonly string[],
  rows: AsyncGenerator<Record<string, unknown>>,
): Promise<void> {
  response.type('text/csv')
  const csv = stringify({ header: true, columns: [...columns], escape_formulas: true, cast: { boolean: String } })
  const flat = async function* () {
    for await (const { attributes, topics, ...row } of rows) {
      const cells = {
        ...row,
        ...(attributes as object | undefined),
        ...(Array.isArray(topics) ? { topics: topics.join(' ') } : {}),
      }
      yield Object.fromEntries(Object.entries(cells).map(([name, value]) => [name, cellOf(value)]))
    }
  }
  await pipeline(Readable.from(flat()), csv, response)
}

const cellOf = (value: unknown): unknown =>
  typeof value === 'object' && value !== null && 'longitude' in value && 'latitude' in value
    ? `${value.longitude},${value.latitude}`
    : value
