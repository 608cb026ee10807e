import { createServer, type Server } from 'node:http'
import type { PushService } from '@zbell/standins'
import express from 'express'
import { z } from 'zod'
import { deeds, type Harbour } from './harbour.ts'
import type { Office } from './office.ts'
import { ferries, passengers } from './scenario/scenario.ts'
import { signProof } from './sign-proof.ts'

const act = z.strictObject({
  deed: z.enum(deeds),
  sailing: z.int(),
  passenger: z.enum(passengers.map(({ user }) => user)),
})

/** In an app of one’s own it is whoever is signed in there; here everybody may be any passenger. */
const proofRequest = z.strictObject({ user: act.shape.passenger })

export type PassengerServer = { readonly url: string; close(): Promise<void> }

/**
 * The passengers' web page. It also carries what a browser has of its own: a line to its push service. A page on this
 * machine cannot use the browser maker's push service, so it subscribes at the stand-in through here.
 */
export async function openPassengerServer(given: {
  port: number
  dir: string
  push: PushService
  service: () => { url: string; appKey: string }
  proofKey: () => string
  harbour: Harbour
  office: Office
}): Promise<PassengerServer> {
  const app = express()
  app.disable('x-powered-by')
  // What is signed is signed byte by byte, so it is read as it came.
  app.post('/office/bell', express.raw({ limit: '2mb', type: () => true }), (request, response) => {
    response.status(given.office.take(request.headers, request.body as Buffer)).end()
  })
  app.get('/office/line', (_request, response) => {
    response.writeHead(200, { 'content-type': 'text/event-stream', 'cache-control': 'no-store' })
    response.once(
      'close',
      given.office.watch((lines) => void response.write(`data: ${JSON.stringify(lines)}\n\n`)),
    )
  })
  app.use(express.json({ limit: '4kb' }))
  app.get('/scenario.json', (_request, response) => {
    response.json({ ...given.service(), name: ferries.name, passengers })
  })
  app.post('/proof', async (request, response) => {
    const { user } = proofRequest.parse(request.body)
    response.type('text/plain').send(await signProof(user, given.proofKey()))
  })
  app.get('/board.json', async (_request, response) => {
    response.json(await given.harbour.board())
  })
  app.post('/board', async (request, response) => {
    const { deed, sailing, passenger } = act.parse(request.body)
    await given.harbour.act(deed, sailing, passenger)
    response.json(await given.harbour.board())
  })
  app.post('/weather', async (_request, response) => {
    await given.harbour.warn('Farrow Isle')
    response.status(202).end()
  })
  app.post('/line', (request, response) => {
    const { applicationServerKey } = (request.body ?? {}) as { applicationServerKey?: unknown }
    response
      .status(201)
      .json(given.push.subscribe(typeof applicationServerKey === 'string' ? applicationServerKey : undefined))
  })
  app.get('/line/:id', (request, response) => {
    response.writeHead(200, { 'content-type': 'text/event-stream', 'cache-control': 'no-store' })
    response.write(': open\n\n')
    const detach = given.push.attach(request.params.id, (body) =>
      response.write(`data: ${body.toString('base64url')}\n\n`),
    )
    if (!detach) response.end('event: gone\ndata: gone\n\n')
    response.once('close', () => detach?.())
  })
  app.use(express.static(given.dir))
  app.get('/sailings/:number', (_request, response) => response.sendFile('index.html', { root: given.dir }))
  const server: Server = createServer(app)
  await new Promise<void>((done, fail) => {
    server.once('error', fail)
    server.listen(given.port, '127.0.0.1', done)
  })
  return {
    url: `http://127.0.0.1:${given.port}`,
    close: () =>
      new Promise((done) => {
        server.close(() => done())
        server.closeAllConnections()
      }),
  }
}
