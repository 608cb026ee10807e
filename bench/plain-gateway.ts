import { readFileSync } from 'node:fs'
import { createSecureServer } from 'node:http2'
import type { AddressInfo } from 'node:net'
import { join } from 'node:path'
import { serverCertificate } from '@zbell/standins'

/** A gateway that takes everything, in a process of its own: what is left to measure is how requests are made. */
const dir = process.argv[2]!
const { cert, key, caFile } = serverCertificate(dir)
// It asks for a client's certificate and takes whoever has none: both kinds come to the same gateway.
const ca = readFileSync(join(dir, 'client.pem'))
const server = createSecureServer({ cert, key, ca, requestCert: true, rejectUnauthorized: false })
const granted = JSON.stringify({ access_token: 'granted', token_type: 'Bearer', expires_in: 1_800 })
server.on('stream', (stream, headers) => {
  stream.resume()
  stream.respond({ ':status': headers[':path'] === '/grants' ? 200 : 201 })
  stream.end(headers[':path'] === '/grants' ? granted : undefined)
})
server.listen(0, '127.0.0.1', () => {
  const { port } = server.address() as AddressInfo
  process.stdout.write(`${JSON.stringify({ origin: `https://127.0.0.1:${port}`, caFile })}\n`)
})
process.once('SIGTERM', () => process.exit())
