import { createServer, type Server } from 'node:http'
import type { AddressInfo } from 'node:net'
import {
  type HandsetAct,
  handsetAct,
  handsetChange,
  handsetOrder,
  type ProblemCode,
  problems,
  problemType,
  type RehearsalPlan,
  tapRequest,
} from '@zbell/contract'
import { ProblemError } from '@zbell/contract/client'
import type { Platform } from '@zbell/core'
import type { ServicePlace } from '@zbell/kit/states'
import express, { type ErrorRequestHandler, type Response } from 'express'
import type { AccountAuthority } from '../certificates/account-authority.ts'
import { type FaultProfile, faultProfile } from '../gateways/fault-profile.ts'
import type { Handset } from '../handsets/handset.ts'
import type { HandsetRegistry } from '../handsets/handset-registry.ts'
import { NoPlace } from '../handsets/no-place.ts'

export type Tempered = { faultProfile: FaultProfile; readonly books: object; readonly listener: { drop(): void } }

type ControlParts = {
  readonly port: number
  readonly key: string
  readonly registry: HandsetRegistry
  readonly gateways: Record<string, Tempered>
  readonly plan: RehearsalPlan
  /** Signs what the account's owner requests. */
  readonly authority: AccountAuthority
  /** The only sender whom browsers on the bench listen to. */
  readonly vapidKey: string
  /** Tells where an app's handsets find the service. */
  readonly settle: (app: string, place: ServicePlace) => void
}

const maxHandsets = 200
const models: Record<Platform, string> = { ios: 'Skerry 4', android: 'Fjordfone 12', web: 'Virtual browser' }

/** Controls handsets and the fault profiles of the gateways, for the service, for tests and for whoever holds the key. */
export class ControlServer {
  readonly #server: Server

  private constructor(server: Server) {
    this.#server = server
  }

  static async open(given: ControlParts): Promise<ControlServer> {
    const app = express()
    app.disable('x-powered-by')
    app.use((request, response, next) => {
      if (request.get('authorization') === `Bearer ${given.key}`) next()
      else problem(response, 'unknown-key')
    })
    app.use(express.json({ limit: '64kb' }))
    app.get('/rehearsal', (_request, response) => void response.json(given.plan))
    handsetRoutes(app, given.registry, given.vapidKey)
    newHandsetRoute(app, given)
    gatewayRoutes(app, given.gateways)
    accountRoute(app, given.authority)
    // What the service answered to the handset's app is the answer to whoever moved it.
    const failed: ErrorRequestHandler = (error, _request, response, _next) => {
      if (error instanceof ProblemError) problem(response, error.problem.code, error.problem.detail)
      else problem(response, 'internal-error')
    }
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

/** @returns what stands against it */
async function act(
  registry: HandsetRegistry,
  handset: Handset,
  given: HandsetAct,
  vapidKey: string,
): Promise<ProblemCode | undefined> {
  const installed = handset.state.installed !== false
  switch (given.do) {
    case 'tap':
      return (await handset.tap(given.notification, given.action)) ? undefined : 'nothing-to-tap'
    case 'dismiss':
      return (await handset.dismiss(given.notification)) ? undefined : 'nothing-to-tap'
    case 'ask':
      return (await handset.ask(given.answer)) ? undefined : 'not-possible-now'
    case 'join':
    case 'leave':
      if (!installed) return 'not-possible-now'
      await handset.topic(given.topic, given.do === 'join')
      return undefined
    case 'mute-channel':
    case 'let-channel':
      if (!installed) return 'not-possible-now'
      await handset.channel(given.channel, given.do === 'mute-channel')
      return undefined
    case 'reboot':
      await handset.reboot()
      return undefined
    case 'remove':
      if (!installed) return 'not-possible-now'
      registry.remove(handset)
      return undefined
    case 'install':
      if (installed) return 'not-possible-now'
      await registry.install(handset, vapidKey)
      return undefined
    case 'ring':
      await handset.ring(given.content)
      return undefined
    default:
      return given satisfies never
  }
}

function handsetRoutes(app: express.Express, registry: HandsetRegistry, vapidKey: string): void {
  app.get('/apps/:app/handsets', async (request, response) => {
    response.json({
      items: await Promise.all(registry.list(request.params.app).map((handset) => handset.view())),
      next: null,
    })
  })
  app.get('/apps/:app/handsets/:id', async (request, response) => {
    const handset = registry.find(request.params.app, request.params.id)
    if (handset) response.json(await handset.view())
    else problem(response, 'unknown-handset', `There is no handset ${request.params.id}.`)
  })
  app.post('/apps/:app/handsets/:id/tap', async (request, response) => {
    const handset = registry.find(request.params.app, request.params.id)
    const read = tapRequest.safeParse(request.body ?? {})
    if (!handset) problem(response, 'unknown-handset', `There is no handset ${request.params.id}.`)
    else if (!read.success) problem(response, 'invalid-request')
    else if (await handset.tap(read.data.notification, read.data.action)) response.json(await handset.view())
    else problem(response, 'nothing-to-tap')
  })
  app.patch('/apps/:app/handsets/:id', async (request, response) => {
    const handset = registry.find(request.params.app, request.params.id)
    const read = handsetChange.safeParse(request.body ?? {})
    if (!handset) return problem(response, 'unknown-handset', `There is no handset ${request.params.id}.`)
    if (!read.success) return problem(response, 'invalid-request', read.error.issues[0]?.message)
    await handset.change(read.data)
    response.json(await handset.view())
  })
  app.delete('/apps/:app/handsets/:id', (request, response) => {
    const handset = registry.find(request.params.app, request.params.id)
    if (!handset) return problem(response, 'unknown-handset', `There is no handset ${request.params.id}.`)
    registry.discard(handset)
    response.json({})
  })
  app.post('/apps/:app/handsets/:id/do', async (request, response) => {
    const handset = registry.find(request.params.app, request.params.id)
    const read = handsetAct.safeParse(request.body ?? {})
    if (!handset) return problem(response, 'unknown-handset', `There is no handset ${request.params.id}.`)
    if (!read.success) return problem(response, 'invalid-request', read.error.issues[0]?.message)
    const refused = await act(registry, handset, read.data, vapidKey)
    if (refused) problem(response, refused)
    else response.json(await handset.view())
  })
}

function newHandsetRoute(app: express.Express, { registry, vapidKey, settle }: ControlParts): void {
  app.post('/apps/:app/handsets', async (request, response) => {
    const slug = request.params.app
    const read = handsetOrder.safeParse(request.body ?? {})
    if (!read.success) return problem(response, 'invalid-request', read.error.issues[0]?.message)
    const { id = freeName(registry, slug, read.data.platform), service, locale, model, timeZone, ...wishes } = read.data
    if (registry.find(slug, id)) return problem(response, 'name-taken', `There is a handset ${id} already.`)
    if (registry.list(slug).length >= maxHandsets)
      return problem(response, 'too-many-handsets', `An app may have ${maxHandsets} virtual handsets.`)
    if (service) settle(slug, service)
    const facts = { ...wishes, id, app: slug, model: model ?? models[wishes.platform], rehearsal: true }
    const more = { ...(locale === null ? {} : { locale }), ...(timeZone === undefined ? {} : { timeZone }) }
    try {
      const handset = await registry.make({ ...facts, ...more }, vapidKey)
      response.status(201).json(await handset.view())
    } catch (error) {
      if (error instanceof NoPlace) problem(response, 'unknown-key', error.message)
      else if (error instanceof ProblemError) problem(response, error.problem.code, error.problem.detail)
      else throw error
    }
  })
}

function freeName(registry: HandsetRegistry, app: string, platform: Platform): string {
  for (let n = 1; ; n++) if (!registry.find(app, `${platform}-${n}`)) return `${platform}-${n}`
}

function gatewayRoutes(app: express.Express, gateways: Record<string, Tempered>): void {
  app.get('/gateways', (_request, response) => {
    response.json(
      Object.fromEntries(
        Object.entries(gateways).map(([name, { faultProfile: now, books }]) => [name, { temper: now, books }]),
      ),
    )
  })
  app.put('/gateways/:name/temper', (request, response) => {
    const gateway = gateways[request.params.name]
    const read = faultProfile.safeParse(request.body ?? {})
    if (!gateway || !read.success) return problem(response, 'invalid-request', read.error?.issues[0]?.message)
    gateway.faultProfile = read.data
    response.json(gateway.faultProfile)
  })
  app.post('/gateways/:name/drop', (request, response) => {
    gateways[request.params.name]?.listener.drop()
    response.json({})
  })
}

/** What a platform's pages for developers do with a request that is uploaded there. */
function accountRoute(app: express.Express, authority: AccountAuthority): void {
  app.post('/accounts/ios/certificates', express.text({ type: () => true, limit: '16kb' }), (request, response) => {
    const certificate = authority.sign(typeof request.body === 'string' ? request.body : '')
    if (certificate) response.type('application/x-pem-file').send(certificate)
    else problem(response, 'invalid-request', 'This is no request for a certificate (PKCS#10, PEM).')
  })
}

function problem(response: Response, code: ProblemCode, detail?: string): void {
  const { status, title, remedy } = problems[code]
  response.status(status).json({ type: problemType(code), code, status, title, detail: detail ?? title, remedy })
}
