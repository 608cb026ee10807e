import type { z } from 'zod'
import type { Operations } from '../operations.ts'
import type { ProblemBody } from '../problems/problem.ts'
import { type ParamsOf, type RouteName, type Routes, splitRoute } from '../routes.ts'
import { ProblemError, UnreachableError } from './problem-error.ts'

/** What a call of an operation says. */
export type CallInput<Name extends RouteName> = (ParamsOf<Routes[Name]> extends never
  ? { params?: undefined }
  : { params: Record<ParamsOf<Routes[Name]>, string> }) &
  (Operations[Name] extends { query: infer Q extends z.ZodType } ? { query?: z.input<Q> } : { query?: undefined }) &
  (Operations[Name] extends { body: infer B extends z.ZodType } ? { body: z.input<B> } : { body?: undefined }) & {
    headers?: Record<string, string>
    signal?: AbortSignal
  }

export type AnswerOf<Name extends RouteName> = Operations[Name] extends { answer: infer A extends z.ZodType }
  ? z.output<A>
  : undefined

/** Operations that answer a page of a list. */
export type ListName = {
  [Name in RouteName]: AnswerOf<Name> extends { items: readonly unknown[]; next: string | null } ? Name : never
}[RouteName]
export type ItemOf<Name extends ListName> = AnswerOf<Name> extends { items: readonly (infer Item)[] } ? Item : never

const maxOnPage = 200

export type ClientOptions = {
  /** The service's address, without a slash at its end; empty for the page's own origin. */
  readonly url: string
  /** A backend key, an app key, a device secret or the operator's key. */
  readonly bearer?: string | undefined
  /** For a key that belongs to no environment: which one is meant in the calls of an app. */
  readonly environment?: string | undefined
  /** Sent with every request; read anew each time. */
  readonly headers?: () => Record<string, string>
  readonly fetch?: typeof fetch
}

/** One typed client for all who call the service: the names are those of the routes. */
export class Client {
  readonly #options: ClientOptions

  constructor(options: ClientOptions) {
    this.#options = options
  }

  /**
   * @throws {ProblemError} when the service says no
   * @throws {UnreachableError} when it is not there
   */
  async call<Name extends RouteName>(name: Name, given: CallInput<Name>): Promise<AnswerOf<Name>> {
    const answer = await this.#fetch(name, given, 'application/json')
    if (answer.status === 204) return undefined as AnswerOf<Name>
    return (await answer.json()) as AnswerOf<Name>
  }

  /**
   * Reads a list to its end, page by page. For lists that a person can look through; the others are streamed as files.
   * Throws as {@link call} does.
   */
  async all<Name extends ListName>(name: Name, given: CallInput<Name>): Promise<ItemOf<Name>[]> {
    const items: ItemOf<Name>[] = []
    for (let after: string | null | undefined; after !== null; ) {
      const query = { ...(given.query as object | undefined), limit: maxOnPage, ...(after ? { after } : {}) }
      const page = (await this.call(name, { ...given, query } as CallInput<Name>)) as {
        items: ItemOf<Name>[]
        next: string | null
      }
      items.push(...page.items)
      after = page.next
    }
    return items
  }

  /** Sends a file, however long, as it is read. Throws as {@link call} does. */
  async upload<Name extends RouteName>(
    name: Name,
    given: CallInput<Name>,
    file: { readonly type: string; readonly content: AsyncGenerator<Uint8Array> },
  ): Promise<AnswerOf<Name>> {
    const answer = await this.#fetch(name, given, 'application/json', file)
    return (await answer.json()) as AnswerOf<Name>
  }

  /** Opens a stream of server-sent events or of a file; its bytes go to a parser. Throws as {@link call} does. */
  async stream<Name extends RouteName>(name: Name, given: CallInput<Name>): Promise<ReadableStream<Uint8Array>> {
    const answer = await this.#fetch(name, given, 'text/event-stream, */*')
    if (!answer.body) throw new UnreachableError('the service sent no stream')
    return answer.body
  }

  async #fetch<Name extends RouteName>(
    name: Name,
    given: CallInput<Name>,
    accept: string,
    file?: { readonly type: string; readonly content: AsyncGenerator<Uint8Array> },
  ): Promise<Response> {
    const { method, path } = splitRoute(name)
    const params = (given.params ?? {}) as Record<string, string>
    const { environment } = this.#options
    const asked = {
      ...(environment !== undefined && params.app !== undefined ? { environment } : {}),
      ...(given.query as object | undefined),
    }
    const query = new URLSearchParams(
      Object.entries(asked).flatMap(([key, value]) => (value === undefined ? [] : [[key, String(value)]])),
    ).toString()
    const url =
      this.#options.url + path.replace(/\{(\w+)\}/g, (_, key: string) => encodeURIComponent(params[key] ?? ''))
    const send = this.#options.fetch ?? globalThis.fetch
    let answer: Response
    try {
      answer = await send(query ? `${url}?${query}` : url, {
        method,
        headers: {
          accept,
          ...(this.#options.bearer === undefined ? {} : { authorization: `Bearer ${this.#options.bearer}` }),
          ...(given.body === undefined ? {} : { 'content-type': 'application/json' }),
          ...(file ? { 'content-type': file.type } : {}),
          ...this.#options.headers?.(),
          ...given.headers,
        },
        ...(given.body === undefined ? {} : { body: JSON.stringify(given.body) }),
        // A body that is streamed has to say that it does not wait for the answer (WHATWG Fetch §5.4).
        ...(file ? ({ body: file.content, duplex: 'half' } as object) : {}),
        ...(given.signal ? { signal: given.signal } : {}),
      })
    } catch (cause) {
      if (given.signal?.aborted) throw cause
      throw new UnreachableError(`no answer from ${this.#options.url || 'the service'}`, { cause })
    }
    if (answer.ok) return answer
    if (!answer.headers.get('content-type')?.startsWith('application/problem+json')) {
      throw new UnreachableError(`${this.#options.url} answered ${answer.status}, but not as this service does`)
    }
    throw new ProblemError((await answer.json()) as ProblemBody)
  }
}
