import {
  faultsIn,
  type Operation,
  type Operations,
  operations,
  type ProblemCode,
  type RouteName,
  refusalsOf,
  splitRoute,
} from '@zbell/contract'
import { type Request, type RequestHandler, type Response, Router } from 'express'
import { z } from 'zod'
import {
  type Answer,
  type Api,
  type CallerOf,
  type CallOf,
  callerAddress,
  type Handler,
  idempotencyKeyOf,
  type Limit,
  type LookAhead,
  type Repeats,
} from '../api/index.ts'
import { invalid, type Metrics, Problem } from '../base/index.ts'
import type { DeviceRow, Scope } from '../database/index.ts'
import type { CallerCheck } from './authentication.ts'
import { binaryEvent, isBinaryEvent } from './cloud-events.ts'
import { LargeRequests } from './large-requests.ts'
import { deepestBody, laterBody, loneSurrogateAt, shapeFault } from './request-body.ts'

/** Puts the contract's operations on a router: who may call, what may be sent and what is answered stand in its table. */
export class OperationRouter implements Api {
  /** An address in other letters is another address: bounds and limits go by it. */
  readonly #router = Router({ caseSensitive: true })
  /** Addresses without a name in them, which a fleet calls all the time: found at once, where a router tries one after the other. */
  readonly #fixed = new Map<string, RequestHandler>()
  readonly #callers: CallerCheck
  readonly #metrics: Metrics
  readonly #large = new LargeRequests()
  readonly #repeats: Repeats
  readonly #onUndescribed: (name: RouteName, code: ProblemCode) => void

  /** @param onUndescribed is called with a problem that the contract does not say an operation may answer with */
  constructor(
    callers: CallerCheck,
    metrics: Metrics,
    repeats: Repeats,
    onUndescribed: (name: RouteName, code: ProblemCode) => void = () => {},
  ) {
    this.#onUndescribed = onUndescribed
    this.#callers = callers
    this.#metrics = metrics
    this.#repeats = repeats
  }

  /** @param limit counts whoever may ask: what is turned away before that uses nothing up for those who may */
  serve<Name extends RouteName>(name: Name, handler: Handler<Name>, limit?: Limit): void {
    this.serveAhead(name, undefined, handler, limit)
  }

  /** @param lookAhead is called while it is asked whether the caller may, for one who was known a moment ago */
  serveAhead<Name extends RouteName>(
    name: Name,
    lookAhead: LookAhead<Name> | undefined,
    handler: Handler<Name>,
    limit?: Limit,
  ): void {
    const { method, path } = splitRoute(name)
    const operation: Operation = operations[name]
    const verb = method.toLowerCase() as 'get' | 'post' | 'put' | 'patch' | 'delete'
    const described = new Set(refusalsOf(name))
    const handle: RequestHandler = async (request, response) => {
      nameNothing(request)
      try {
        await answer(request, response)
      } catch (error) {
        if (error instanceof Problem && !described.has(error.code)) this.#onUndescribed(name, error.code)
        throw error
      }
    }
    const answer = async (request: Request, response: Response): Promise<void> => {
      const stop = this.#metrics.requests.startTimer({ operation: name })
      response.once('close', () => stop({ status: response.statusCode }))
      const read = () => ({
        query: queryOf(operation, request) as CallOf<Name>['query'],
        body: (operation.body
          ? parsed(operation.body, bodyOf(operation, request), '')
          : undefined) as CallOf<Name>['body'],
      })
      const checking = this.#callers.check(operation, request)
      let given = read
      // Read while the database says who calls; what is wrong with it is said only to somebody who may. Strangers get no
      // more than a little read.
      const later = laterBody(response)
      if (operation.body && later === undefined) {
        checking.catch(() => {}) // Heard below.
        // The question has to be on its way first, which it is with the next turn of the event loop.
        await new Promise(setImmediate)
        const { done, result } = attempt(read)
        given = result
        const likely = lookAhead && done ? this.#callers.likelyScope(request) : undefined
        if (likely) lookAhead?.(likely, { ...result(), request })
      }
      const caller = (await checking) as CallerOf<Operations[Name]['caller']>
      if (limit) await limit({ address: callerAddress(response), holder: holderOf(caller) }, response)
      const appNo = (caller as { readonly scope?: Scope } | undefined)?.scope?.app.no
      if (appNo !== undefined) this.#large.note(appNo)
      const { repeats } = operation
      const handled = async () => {
        const params = request.params as CallOf<Name>['params']
        const asked = given()
        const act = () =>
          handler({
            caller,
            params,
            ...asked,
            request,
            response,
            stillMay: () => this.#mayCall(operation, request),
            get waits() {
              return waitingFor(response)
            },
          })
        const key = repeats === undefined || repeats === 'itself' ? undefined : idempotencyKeyOf(request)
        if (key === undefined || repeats === undefined || repeats === 'itself') return act()
        const once = await this.#repeats.once(
          name,
          repeats,
          key,
          { caller, request: { params, ...asked } },
          async () => {
            const answer = await act()
            return { status: response.statusCode, answer }
          },
        )
        response.statusCode = once.status
        return once.answer as Answer<Name>
      }
      const isLarge = operation.body && later && appNo !== undefined
      if (operation.body && !isLarge) await later?.()
      const answer = isLarge
        ? await this.#large.run({ appNo, owner: holderOf(caller) ?? `backend ${appNo}` }, later, handled)
        : await handled()
      if (operation.events || operation.file || response.writableEnded) return
      if (answer === undefined) response.status(operation.status).end()
      else {
        if (response.statusCode === 200) response.statusCode = operation.status
        response.setHeader('Content-Type', 'application/json; charset=utf-8')
        // As text, which leaves together with the head in one write.
        const text = JSON.stringify(answer)
        response.setHeader('Content-Length', Buffer.byteLength(text))
        response.end(text)
      }
    }
    this.#router[verb](path.replace(/\{(\w+)\}/g, ':$1'), handle)
    if (!path.includes('{')) this.#fixed.set(`${method} ${path}`, handle)
  }

  readonly handle: RequestHandler = (request, response, next) => {
    const { method, url } = request
    const end = url.indexOf('?')
    const fixed = this.#fixed.get(`${method === 'HEAD' ? 'GET' : method} ${end < 0 ? url : url.slice(0, end)}`)
    if (fixed) Promise.resolve(fixed(request, response, next)).catch(next)
    else this.#router(request, response, next)
  }

  async #mayCall(operation: Operation, request: Request): Promise<boolean> {
    try {
      await this.#callers.check(operation, request)
      return true
    } catch (error) {
      // A database that is away says nothing about the caller.
      return !(error instanceof Problem)
    }
  }
}

/** Parts of an address that people choose as they like; all other names are ASCII. */
const anyLetters = new Set(['user', 'who'])

/** What cannot be a name is nobody’s: it is looked for as such, and found nowhere, before the database is asked about letters that its columns do not have. */
function nameNothing({ params }: Request): void {
  for (const [name, value] of Object.entries(params))
    if (!anyLetters.has(name) && !/^[\x20-\x7e]*$/.test(String(value))) params[name] = '?'
}

/** Made only where it is asked for: most answers are there at once. */
function waitingFor(response: Response): AbortSignal {
  const waiting = new AbortController()
  response.once('close', () => waiting.abort())
  return waiting.signal
}

/** Whose calls are counted together, beside those of the address: an app’s, or a device’s. */
function holderOf(caller: unknown): string | undefined {
  const { device, scope, actor } = (caller ?? {}) as { device?: DeviceRow; scope?: Scope; actor?: string }
  if (device) return String(device.no)
  return scope && actor === undefined ? `${scope.app.slug} ${scope.environment}` : undefined
}

/** Does something now and answers later, with what came of it or with its error. */
function attempt<T>(act: () => T): { readonly done: boolean; readonly result: () => T } {
  try {
    const made = act()
    return { done: true, result: () => made }
  } catch (error) {
    return {
      done: false,
      result: () => {
        throw error
      },
    }
  }
}

/** What a client says of all its calls, also where it makes no difference: which environment, and pages of what length. */
const everywhere: ReadonlySet<string> = new Set(['environment', 'limit'])

/** @throws {Problem} `invalid-request`, also for a parameter that there is not: a mistyped filter would be ignored */
function queryOf({ query, anyQuery }: Operation, request: Request): unknown {
  if (anyQuery !== true && request.url.includes('?')) {
    const known = Object.keys(query?.shape ?? {})
    const unknown = Object.keys(request.query).filter((name) => !known.includes(name) && !everywhere.has(name))
    if (unknown.length > 0) {
      const there =
        known.length === 0 ? 'there is none' : `there ${known.length === 1 ? 'is' : 'are'} ${known.join(', ')}`
      const faults = unknown
        .slice(0, maxFaults)
        .map((name) => ({ pointer: `?${name.slice(0, 60)}`, detail: `is not a parameter of this address; ${there}` }))
      throw new Problem('invalid-request', `${faults[0]!.pointer} ${faults[0]!.detail}.`, faults)
    }
  }
  return query ? parsed(query, request.query, '?') : undefined
}

const bodyOf = ({ cloudEvents }: Operation, request: Request): unknown =>
  cloudEvents && isBinaryEvent(request) ? binaryEvent(request) : jsonBody(request)

function jsonBody(request: Request): unknown {
  if (request.body !== undefined) return request.body as unknown
  if (!request.is('application/json') && Number(request.get('content-length') ?? 0) > 0)
    throw new Problem('unsupported-media-type')
  throw new Problem('malformed-json', 'There is no body; one JSON object is wanted.')
}

/** So many faults are said in an answer. */
const maxFaults = 20

/** Reads a value, and puts into words only so many of its faults: of ten thousand that costs more than finding them. */
function readUpTo(type: z.ZodType, value: unknown, most: number) {
  const context = { async: false } as const
  const read = type._zod.run({ value, issues: [] }, context)
  if (read instanceof Promise) throw new TypeError('a schema of the contract is asynchronous')
  const issues = read.issues.slice(0, most).map((issue) => z.core.util.finalizeIssue(issue, context, z.config()))
  return { value: read.value, count: read.issues.length, issues }
}

function parsed(type: z.ZodType, value: unknown, prefix: '' | '?'): unknown {
  // Looked at without going down into it: whatever reads it after this does so by calling itself.
  const fault = shapeFault(value, deepestBody)
  if (fault !== undefined) throw new Problem('invalid-request', `The body ${fault}.`)
  const read = readUpTo(type, value, maxFaults)
  if (read.issues.length === 0) {
    const surrogate = loneSurrogateAt(value)
    if (surrogate !== undefined) throw invalid(surrogate, 'has half of a surrogate pair')
    return read.value
  }
  const found = faultsIn(read, value)
  const faults =
    prefix === '?' ? found.map((one) => ({ ...one, pointer: `?${one.pointer.slice(1).replaceAll('/', '.')}` })) : found
  const [first] = faults
  const more = read.count > 1 ? ` There are ${read.count} such places.` : ''
  throw new Problem('invalid-request', `${first?.pointer || 'The body'}: ${first?.detail}.${more}`, faults)
}
