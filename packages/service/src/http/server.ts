import { randomUUID } from 'node:crypto'
import type { IncomingMessage, Server } from 'node:http'
import { sourceLimits } from '@zbell/core/triggers'
import express, { type Request, type RequestHandler, type Response } from 'express'
import type { Logger } from 'pino'
import { noteAddress, Repeats } from '../api/index.ts'
import { type Metrics, Problem } from '../base/index.ts'
import type { Database } from '../database/index.ts'
import { EventStreams } from '../operations/index.ts'
import { sameSecret } from '../vault/index.ts'
import { CallerCheck, requireBearer } from './authentication.ts'
import { ClientAddresses } from './client-address.ts'
import { isBinaryEvent } from './cloud-events.ts'
import { boundConnections, openServer, proxyWatch, scheme } from './connections.ts'
import { securityHeaders, serveConsole } from './console-pages.ts'
import { documents } from './documents.ts'
import { serveOperations } from './operations.ts'
import type { HttpParts } from './parts.ts'
import { nothingAt, problemHandler, unknownAddress } from './problem-handler.ts'
import {
  holdsMoreThan,
  inTime,
  isDecompressionBomb,
  isLittle,
  maxValues,
  readsLater,
  tooCompressed,
  tooManyValues,
} from './request-body.ts'
import { OperationRouter } from './serve-operation.ts'

/** The largest body of any call; 10,000 references of a target fit. */
const maxBody = '2mb'
const deviceBody = '64kb'
/** What others post in their own form, as it came: it is signed byte by byte. */
const incomingBody = sourceLimits.bodyBytes
/** CloudEvents 1.0 have names of their own for their JSON (JSON format §3 and §4). */
const jsonTypes = ['application/json', 'application/*+json']

export type HttpServer = { readonly server: Server; close(): Promise<void> }

export function httpServer(parts: HttpParts): HttpServer {
  const { config, database, metrics, log } = parts
  const streams = new EventStreams(metrics)
  const publicUrl = config['http.publicUrl']
  const isSecure = publicUrl.startsWith('https:')
  const callers = new CallerCheck(database, parts.operatorKey, isSecure)
  const api = new OperationRouter(callers, metrics, new Repeats(database), (operation, code) =>
    log.warn({ operation, code }, 'an operation answered with a problem that its description does not name'),
  )
  serveOperations(api, { ...parts, streams, url: () => `${scheme(config)}://${config['http.host']}:${portOf(server)}` })

  const app = express()
  app.disable('x-powered-by')
  app.disable('etag')
  const name = named(log)
  const addresses = new ClientAddresses(config['http.trustedProxies'], proxyWatch(log, publicUrl))
  const pages = securityHeaders(isSecure)
  const answer = answerOperations(api)
  app.use((request, response, next) => {
    name(request, response)
    noteAddress(response, addresses.of(request))
    inTime(request, response)
    const step = parts.answersApi && request.url.startsWith('/v1/') ? answer : pages
    step(request, response, next)
  })
  serveHealth(app, database, metrics, parts.operatorKey)
  if (parts.consoleDir && parts.answersApi) serveConsole(app, parts.consoleDir)
  app.use(unknownAddress)
  app.use(problemHandler(log))

  const { server, close: leaveCertificate } = openServer(app, config, log)
  boundConnections(server, config, (address) => addresses.isTrusted(address))
  return {
    server,
    close: async () => {
      leaveCertificate()
      streams.close()
      await new Promise<void>((done) => {
        server.close(() => done())
        server.closeIdleConnections()
        setTimeout(() => server.closeAllConnections(), 2_000).unref()
      })
    },
  }
}

function holdsFew(request: IncomingMessage, _response: unknown, body: Buffer): void {
  if (isDecompressionBomb(request, body)) throw Object.assign(new Error('too compressed'), { type: tooCompressed })
  if (holdsMoreThan(body, maxValues)) throw Object.assign(new Error('too many values'), { type: tooManyValues })
}

/** Reads a call's body within its bounds and hands it to its operation. */
function answerOperations(on: OperationRouter): RequestHandler {
  const deviceJson = express.json({ limit: deviceBody, type: jsonTypes, verify: holdsFew })
  const raw = express.raw({ limit: incomingBody, type: () => true, inflate: false })
  const json = express.json({ limit: maxBody, type: jsonTypes, verify: holdsFew })
  // An event's data may be text; nothing else that is sent here is.
  const text = express.text({ limit: deviceBody, type: 'text/*' })
  const isText = (request: Request) =>
    isBinaryEvent(request) && request.headers['content-type']?.startsWith('text/') === true
  // The interface is one step of the app's, not a router in a router: each of those would cost every call.
  return (request, response, next) => {
    plainHeaders(response)
    if (request.url.includes('%00'))
      throw new Problem('unknown-address', 'The address contains %00, which no name here does.')
    // A device's calls carry no cookie, so any page may make them: the secret is what counts.
    const isDevice = /^\/v1\/(?:devices|app)(?:[/?]|$)/.test(request.url)
    if (isDevice && !crossOrigin(request, response)) return
    const isIncoming = request.url.startsWith('/v1/incoming/')
    const read = isIncoming ? raw : isText(request) ? text : isDevice ? deviceJson : json
    const handle = () =>
      on.handle(request, response, (fault?: unknown) => (fault ? next(fault) : next(nothingAt(request, response))))
    if (!isIncoming && !isLittle(request)) {
      // Nobody has it read before it is known who asks.
      readsLater(
        response,
        () => new Promise((done, fail) => read(request, response, (error) => (error ? fail(error) : done()))),
      )
      handle()
      return
    }
    read(request, response, (error?: unknown) => {
      if (error) next(error)
      else handle()
    })
  }
}

/** Handsets on this machine call back where the service listens. */
function portOf(server: Server): number {
  const address = server.address()
  return typeof address === 'object' && address ? address.port : 0
}

const named =
  (log: Logger) =>
  (request: Request, response: Response): void => {
    const requestId = randomUUID()
    response.locals.requestId = requestId
    response.setHeader('X-Request-Id', requestId)
    const startMs = Date.now()
    // The path only: a query can hold what a person typed.
    if (log.isLevelEnabled('debug')) {
      const { method } = request
      // The address of a calendar is its secret, and that of a source nobody’s business.
      const path = request.path.replace(/^(\/v1\/(?:calendars|incoming)\/).+/, '$1…')
      response.once('close', () =>
        log.debug({ requestId, method, path, status: response.statusCode, ms: Date.now() - startMs }, 'request'),
      )
    }
  }

/** Answers to programs are no pages: of what helmet sets, this is what still means something there. */
function plainHeaders(response: Response): void {
  response.setHeader('Cache-Control', 'no-store')
  response.setHeader('X-Content-Type-Options', 'nosniff')
  response.setHeader('Content-Security-Policy', "default-src 'none'; frame-ancestors 'none'")
  response.setHeader('Cross-Origin-Resource-Policy', 'cross-origin')
}

/** @returns false when the request was only a question whether one may come, and is answered */
function crossOrigin(request: Request, response: Response): boolean {
  response.setHeader('Access-Control-Allow-Origin', '*')
  if (request.method !== 'OPTIONS') return true
  response.setHeader('Access-Control-Allow-Methods', 'GET, POST, PUT, PATCH, DELETE')
  response.setHeader('Access-Control-Allow-Headers', 'Authorization, Content-Type')
  response.setHeader('Access-Control-Max-Age', '86400')
  response.status(204).end()
  return false
}

function serveHealth(app: express.Express, database: Database, metrics: Metrics, operatorKey: string): void {
  app.get('/livez', (_request, response) => void response.json({ alive: true }))
  app.get('/readyz', async (_request, response) => {
    await database.ping()
    response.json({ ready: true })
  })
  app.get('/metrics', async (request, response) => {
    // They say how much goes on, and the names of apps: here that is the operator’s to know.
    if (!sameSecret(requireBearer(request), operatorKey)) throw new Problem('unknown-key')
    response.type(metrics.registry.contentType).send(await metrics.registry.metrics())
  })
  for (const { path, type, text } of documents)
    app.get(path, (_request, response) => void response.type(type).send(text))
}

/** The console's files carry a hash in their names and never change; its one page is asked for anew each time. */
