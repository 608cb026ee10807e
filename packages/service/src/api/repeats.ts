import { createHash } from 'node:crypto'
import type { Operation, RouteName } from '@zbell/contract'
import type { Request } from 'express'
import { Problem } from '../base/index.ts'
import type { Database, Scope } from '../database/index.ts'
import { giveKeyBack, keepAnswer, takeKey } from './store/request-keys.ts'

/** An answer and the status that it goes out with. */
export type RepeatableAnswer = { readonly status: number; readonly answer: unknown }

/** Lets a request that comes again with its Idempotency-Key be done once. */
export class Repeats {
  readonly #database: Database

  constructor(database: Database) {
    this.#database = database
  }

  /**
   * @param act does it and answers
   * @throws {Problem} `idempotency-mismatch`, `idempotency-unfinished`, `made-before`, and whatever `act` throws
   */
  async once(
    operation: RouteName,
    repeats: Exclude<Operation['repeats'], 'itself' | undefined>,
    key: string,
    asked: { readonly caller: unknown; readonly request: unknown },
    act: () => Promise<RepeatableAnswer>,
  ): Promise<RepeatableAnswer> {
    const name = digest([operation, ownerOf(asked.caller), key])
    const request = digest(asked.request)
    const kept = await takeKey(this.#database, name, request)
    if (!kept) return this.#first(repeats, name, act)
    if (!kept.request.equals(request)) throw new Problem('idempotency-mismatch')
    if (kept.status === null || kept.answer === null) throw new Problem('idempotency-unfinished')
    const answer: unknown = JSON.parse(kept.answer)
    if (repeats === 'answer') return { status: kept.status, answer }
    const told = Object.entries(answer as object).map(([what, value]) => `${what} ${value}`)
    const made = told.length === 0 ? repeats.made : `${repeats.made} (${told.join(', ')})`
    throw new Problem(
      'made-before',
      `An earlier request with this Idempotency-Key made ${made}; its secret was shown then.`,
    )
  }

  async #first(
    repeats: 'answer' | { readonly tells: readonly string[] },
    name: Buffer,
    act: () => Promise<RepeatableAnswer>,
  ): Promise<RepeatableAnswer> {
    let done: RepeatableAnswer
    try {
      done = await act()
    } catch (error) {
      // What was refused was not done. Of any other fault that is not certain, and the key stays taken.
      if (error instanceof Problem) await giveKeyBack(this.#database, name)
      throw error
    }
    const { status, answer } = done
    await keepAnswer(
      this.#database,
      name,
      status,
      JSON.stringify(repeats === 'answer' ? answer : only(repeats.tells, answer)),
    )
    return done
  }
}

/** An answer without its secret. */
const only = (names: readonly string[], answer: unknown): object =>
  Object.fromEntries(Object.entries(answer as object).filter(([name]) => names.includes(name)))

/** Keys are an app’s in its environment; of whoever has none, their own. */
function ownerOf(caller: unknown): string {
  const { scope, actor } = (caller ?? {}) as { readonly scope?: Scope; readonly actor?: string }
  return scope ? `app ${scope.app.no} ${scope.environment}` : (actor ?? '')
}

const digest = (value: unknown): Buffer => createHash('sha256').update(JSON.stringify(value)).digest()

/** The Idempotency-Key header. @throws {Problem} `invalid-request` */
export function idempotencyKeyOf(request: Request): string | undefined {
  const key = request.get('idempotency-key')
  if (key === undefined || /^[\x21-\x7e]{1,200}$/.test(key)) return key
  throw new Problem('invalid-request', 'Idempotency-Key wants 1 to 200 visible ASCII characters.', [
    { pointer: 'Idempotency-Key', detail: 'wants 1 to 200 visible ASCII characters' },
  ])
}
