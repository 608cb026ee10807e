import { z } from 'zod'
import { environmentQuery } from '../schemas/page.ts'
import type { Role } from '../schemas/role.ts'

/**
 * Who may call: nobody in particular; the operator (where a role stands, an account with it as well); an account of the
 * console; a backend key or an account; an app key; a device.
 */
export type Caller = 'anyone' | 'operator' | 'console' | 'app' | 'installed-app' | 'device'

export type Operation = {
  readonly summary: string
  readonly caller: Caller
  /** The least role of an account or a backend key that may; the operator always may. */
  readonly role?: Role
  readonly status: number
  readonly query?: z.ZodObject
  /** Whoever calls may add what they like to the address: it is somebody else’s program, such as a calendar. */
  readonly anyQuery?: true
  readonly body?: z.ZodType
  readonly answer?: z.ZodType
  /** The answer is a stream of server-sent events; `answer` is the data of each. */
  readonly events?: true
  /** The body is one CloudEvent or several, in any of the modes of the HTTP binding. */
  readonly cloudEvents?: true
  /** The answer is a file that is streamed. */
  readonly file?: true
  /**
   * It makes something, and takes an `Idempotency-Key`. What a repeat with the same key is answered: the same again (`answer`);
   * a refusal that says what was made, where the answer shows a secret once; or what the operation itself sees to (`itself`).
   */
  readonly repeats?: 'answer' | 'itself' | { readonly made: string; readonly tells: readonly string[] }
  /** Further headers that it heeds, each with what it does. */
  readonly headers?: Readonly<Record<string, string>>
}

/** Whether an operation takes an `Idempotency-Key`. */
export const takesIdempotencyKey = ({ repeats }: Operation): boolean => repeats !== undefined

export const environment = z.object(environmentQuery)
export const done = { status: 200 } as const
export const made = { status: 201 } as const
