import { routes } from '@zbell/contract'
import type { ErrorRequestHandler, Request, RequestHandler, Response } from 'express'
import type { Logger } from 'pino'
import { Problem } from '../base/index.ts'
import { Abandoned, DatabaseBusy, DatabaseFull, DatabaseUnavailable, TooSlow } from '../database/index.ts'
import { maxValues, tooCompressed, tooManyValues } from './request-body.ts'

/** What is at each address of the contract, as patterns of its path. */
const places = (() => {
  const methods = new Map<string, string[]>()
  for (const route of Object.values(routes)) {
    const [method = '', path = ''] = route.split(' ')
    methods.set(path, [...(methods.get(path) ?? []), ...(method === 'GET' ? ['GET', 'HEAD'] : [method])])
  }
  return [...methods].map(([path, allowed]) => ({
    is: new RegExp(`^${path.replaceAll('.', '\\.').replaceAll(/\{\w+\}/g, '[^/]+')}$`),
    allowed,
  }))
})()

/** Why a request found no operation: its address is none, or takes other methods, which `Allow` then names (RFC 9110 §15.5.6). */
export function nothingAt(request: Request, response: Response): Problem {
  const path = request.path.slice(0, 2_000)
  const allowed = [...new Set(places.filter(({ is }) => is.test(path)).flatMap((one) => one.allowed))]
  // A process that only works or keeps time has none of these addresses.
  if (allowed.length === 0 || allowed.includes(request.method))
    return new Problem('unknown-address', `There is nothing at ${request.method} ${path.slice(0, 200)}.`)
  response.setHeader('Allow', allowed.join(', '))
  return new Problem('method-not-allowed', `${path.slice(0, 200)} takes ${allowed.join(', ')}, not ${request.method}.`)
}

export const unknownAddress: RequestHandler = (request, response) => {
  throw nothingAt(request, response)
}

/** Every error that reaches HTTP leaves as application/problem+json; only faults of ours are logged as errors. */
export const problemHandler =
  (log: Logger): ErrorRequestHandler =>
  (error: unknown, _request, response, _next) => {
    if (error instanceof Abandoned) {
      response.destroy()
      return
    }
    const problem = asProblem(error)
    const requestId = String(response.locals.requestId)
    if (problem.code === 'internal-error') log.error({ err: error, requestId }, 'a request failed')
    if (error instanceof DatabaseUnavailable)
      log.warn({ code: error.code, reason: error.message, requestId }, 'the database did not serve a request')
    if (response.headersSent) {
      response.destroy()
      return
    }
    answerProblem(response, problem, requestId)
  }

export function answerProblem(response: Response, problem: Problem, requestId: string): void {
  const body = problem.body(requestId)
  if (body.status === 401) response.setHeader('WWW-Authenticate', 'Bearer')
  if (body.status === 503) response.setHeader('Retry-After', '2')
  response.status(body.status).type('application/problem+json').send(JSON.stringify(body))
}

function asProblem(error: unknown): Problem {
  if (error instanceof Problem) return error
  if (error instanceof TooSlow) return new Problem('too-slow')
  if (error instanceof DatabaseFull) return new Problem('storage-full')
  if (error instanceof DatabaseBusy) return new Problem('database-busy')
  if (error instanceof DatabaseUnavailable) return new Problem('database-unavailable')
  // What Express and its body parser throw carries a type or a code.
  const { type, code, status } = error as { type?: string; code?: string; status?: number }
  if (type === 'entity.too.large') return new Problem('body-too-large')
  if (type === tooManyValues)
    return new Problem('invalid-request', `The body holds more values than ${maxValues.toLocaleString('en')}.`)
  if (type === tooCompressed)
    return new Problem('body-too-large', 'The body expands to more than a hundred times its compressed size.')
  if (type === 'entity.parse.failed') return new Problem('malformed-json')
  if (type === 'encoding.unsupported')
    return new Problem('unsupported-media-type', 'The body has a Content-Encoding that is not accepted here.')
  if (type === 'charset.unsupported') return new Problem('unsupported-media-type')
  if (type === 'request.aborted' || type === 'request.size.invalid')
    return new Problem('malformed-json', 'The body ended early.')
  if (code === 'ERR_INVALID_URL' || status === 400) return new Problem('unknown-address', 'The address cannot be read.')
  return new Problem('internal-error')
}
