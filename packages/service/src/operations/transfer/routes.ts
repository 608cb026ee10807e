import { type Api, ndjson, sendFile, takesItsTime } from '../../api/index.ts'
import { Problem } from '../../base/index.ts'
import type { Database } from '../../database/index.ts'
import { exportLines, isTransferable } from './export-lines.ts'
import { importLines } from './import-lines.ts'
import { csvLines, FileBroken, ndjsonLines } from './lines.ts'

export function serveTransfer(api: Api, database: Database, onChange: () => void): void {
  api.serve('exportList', async ({ caller: { scope }, params, query, response }) => {
    const what = requireKind(params.what)
    const { columns, rows } = await exportLines(database, scope, what)
    const name = `${scope.app.slug}-${scope.environment}-${what}`
    await sendFile(response, { name, format: query.format, columns, rows })
    return undefined
  })

  api.serve('importList', async ({ caller: { scope }, params, request, response }) => {
    const what = requireKind(params.what)
    const isCsv = request.is('text/csv')
    if (!isCsv && !request.is(ndjson))
      throw new Problem('unsupported-media-type', `Send the file as text/csv or ${ndjson}.`)
    takesItsTime(response)
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

function requireKind(text: string) {
  if (!isTransferable(text))
    throw new Problem(
      'unknown-address',
      'Devices, users and topics can be carried in and out; notifications and deliveries out.',
    )
  return text
}
