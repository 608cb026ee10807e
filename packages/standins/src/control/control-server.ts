import { createServer, type Server } from 'node:http'
import type { AddressInfo } from 'node:net'
import { type ProblemCode, problems, problemType, tapRequest } from '@zbell/contract'
import express, { type ErrorRequestHandler, type Response } from 'express'
import { type Temper, temper } from '../gateways/temper.ts'
import type { HandsetRoom } from '../handsets/handset-room.ts'

export type Tempered = { temper: Temper; readonly books: object; readonly listener: { drop(): void } }

/** Controls handsets and the moods of the gateways, for the service, for tests and for whoever holds the key. */
export class ControlServer {
  readonly #server: Server

  private constructor(server: Server) {
    this.#server = server
  }

  static async open(given: {
    port: number
    key: string
    room: HandsetRoom
    gateways: Record<string, Tempered>
  }): Promise<ControlServer> {
    const app = express()
    app.disable('x-powered-by')
    app.use((request, response, next) => {
      if (request.get('authorization') === `Bearer ${given.key}`) next()
      else problem(response, 'unknown-key')
    })
    app.use(express.json({ limit: '64kb' }))
    handsetRoutes(app, given.room)
    gatewayRoutes(app, given.gateways)
    const failed: ErrorRequestHandler = (_error, _request, response, _next) => problem(response, 'internal-error')
    app.use(failed)
    const server = createServer(app)
    await new Promise<void>((done, fail) => {
      server.once('error', fail)
      server.listen(given.port, '127.0.0.1', done)
    })
    return new ControlServer(server)
  }

  get port(): number {
    return (this.#server.address() as AddressInfo).port
  }

  get url(): string {
    return `http://127.0.0.1:${this.port}`
  }

  async close(): Promise<void> {
    await new Promise<void>((done) => {
      this.#server.close(() => done())
      this.#server.closeAllConnections()
    })
  }
}

function handsetRoutes(app: express.Express, room: HandsetRoom): void {
  app.get('/apps/:app/handsets', async (request, response) => {
    response.json({
      items: await Promise.all(room.list(request.params.app).map((handset) => handset.view())),
      next: null,
    })
  })
  app.get('/apps/:app/handsets/:id', async (request, response) => {
    const handset = room.find(request.params.app, request.params.id)
    if (handset) response.json(await handset.view())
    else problem(response, 'unknown-handset', `There is no handset ${request.params.id}.`)
  })
  app.post('/apps/:app/handsets/:id/tap', async (request, response) => {
    const handset = room.find(request.params.app, request.params.id)
    const read = tapRequest.safeParse(request.body ?? {})
    if (!handset) problem(response, 'unknown-handset', `There is no handset ${request.params.id}.`)
    else if (!read.success) problem(response, 'invalid-request')
    else if (await handset.tap(read.data.notification)) response.json(await handset.view())
    else problem(response, 'nothing-to-tap')
  })
}

function gatewayRoutes(app: express.Express, gateways: Record<string, Tempered>): void {
  app.get('/gateways', (_request, response) => {
    response.json(
      Object.fromEntries(
        Object.entries(gateways).map(([name, { temper: now, books }]) => [name, { temper: now, books }]),
      ),
    )
  })
  app.put('/gateways/:name/temper', (request, response) => {
    const gateway = gateways[request.params.name]
    const read = temper.safeParse(request.body ?? {})
    if (!gateway || !read.success) return problem(response, 'invalid-request', read.error?.issues[0]?.message)
    gateway.temper = read.data
    response.json(gateway.temper)
  })
  app.post('/gateways/:name/drop', (request, response) => {
    gateways[request.params.name]?.listener.drop()
    response.json({})
  })
}

function problem(response: Response, code: ProblemCode, detail?: string): void {
  const { status, title, does } = problems[code]
  response.status(status).json({ type: problemType(code), code, status, title, detail: detail ?? title, does })
}
