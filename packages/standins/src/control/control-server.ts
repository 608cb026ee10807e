import { createServer, type Server } from 'node:http'
import type { AddressInfo } from 'node:net'
import { handsetOrder, type ProblemCode, problems, problemType, type RehearsalPlan, tapRequest } from '@zbell/contract'
import { ProblemError } from '@zbell/contract/client'
import type { Platform } from '@zbell/core'
import type { ServicePlace } from '@zbell/kit/states'
import express, { type ErrorRequestHandler, type Response } from 'express'
import { type Temper, temper } from '../gateways/temper.ts'
import type { HandsetRoom } from '../handsets/handset-room.ts'
import { NoPlace } from '../handsets/no-place.ts'

export type Tempered = { temper: Temper; readonly books: object; readonly listener: { drop(): void } }

type Given = {
  readonly port: number
  readonly key: string
  readonly room: HandsetRoom
  readonly gateways: Record<string, Tempered>
  readonly plan: RehearsalPlan
  /** The only sender whom browsers on the bench listen to. */
  readonly vapidKey: string
  /** Tells where an app's handsets find the service. */
  readonly settle: (app: string, place: ServicePlace) => void
}

const mostHandsets = 200
const models: Record<Platform, string> = { ios: 'Skerry 4', android: 'Fjordfone 12', web: 'Virtual browser' }

/** Controls handsets and the moods of the gateways, for the service, for tests and for whoever holds the key. */
export class ControlServer {
  readonly #server: Server

  private constructor(server: Server) {
    this.#server = server
  }

  static async open(given: Given): Promise<ControlServer> {
    const app = express()
    app.disable('x-powered-by')
    app.use((request, response, next) => {
      if (request.get('authorization') === `Bearer ${given.key}`) next()
      else problem(response, 'unknown-key')
    })
    app.use(express.json({ limit: '64kb' }))
    app.get('/rehearsal', (_request, response) => void response.json(given.plan))
    handsetRoutes(app, given.room)
    newHandsetRoute(app, given)
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

function newHandsetRoute(app: express.Express, { room, vapidKey, settle }: Given): void {
  app.post('/apps/:app/handsets', async (request, response) => {
    const slug = request.params.app
    const read = handsetOrder.safeParse(request.body ?? {})
    if (!read.success) return problem(response, 'invalid-request', read.error.issues[0]?.message)
    const { id = freeName(room, slug, read.data.platform), service, locale, model, timeZone, ...wishes } = read.data
    if (room.find(slug, id)) return problem(response, 'name-taken', `There is a handset ${id} already.`)
    if (room.list(slug).length >= mostHandsets)
      return problem(response, 'too-many-handsets', `An app may have ${mostHandsets} virtual handsets.`)
    if (service) settle(slug, service)
    const facts = { ...wishes, id, app: slug, model: model ?? models[wishes.platform], rehearsal: true }
    const more = { ...(locale === null ? {} : { locale }), ...(timeZone === undefined ? {} : { timeZone }) }
    try {
      const handset = await room.make({ ...facts, ...more }, vapidKey)
      response.status(201).json(await handset.view())
    } catch (error) {
      if (error instanceof NoPlace) problem(response, 'unknown-key', error.message)
      else if (error instanceof ProblemError) problem(response, error.problem.code, error.problem.detail)
      else throw error
    }
  })
}

function freeName(room: HandsetRoom, app: string, platform: Platform): string {
  for (let n = 1; ; n++) if (!room.find(app, `${platform}-${n}`)) return `${platform}-${n}`
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
