import { createServer } from 'node:http'
import type { AddressInfo } from 'node:net'

/** An app’s own server that hears everything and keeps only how much it heard, and how late; in a process of its own. */
let events = 0
let late: number[] = []
const server = createServer((request, response) => {
  if (request.method === 'GET') {
    response.end(JSON.stringify({ events, late }))
    late = []
    return
  }
  const parts: Buffer[] = []
  request.on('data', (part: Buffer) => parts.push(part))
  request.on('end', () => {
    response.writeHead(204).end()
    const body = JSON.parse(Buffer.concat(parts).toString('utf8')) as { time: string } | { time: string }[]
    if (Array.isArray(body)) events += body.length
    else {
      events++
      late.push(Date.now() - Date.parse(body.time))
    }
  })
})
server.listen(0, '127.0.0.1', () => {
  process.stdout.write(`${JSON.stringify({ url: `http://127.0.0.1:${(server.address() as AddressInfo).port}` })}\n`)
})
process.once('SIGTERM', () => process.exit())
