import type { ProblemCode } from './catalogue.ts'

/**
 * One place of a request that cannot be used. `pointer` is a JSON Pointer (RFC 6901) into the body, or `?` and the name of a
 * query parameter. Programs tell faults apart by their code, where they have one; the detail is for people. In a text that is a
 * language, line and column say where it is, from 1; a column is a code point. Where something is missing that looks as if it
 * were among what was sent, `looksLike` says it.
 */
export type Fault = {
  readonly pointer: string
  readonly detail: string
  readonly code?: string | undefined
  readonly line?: number | undefined
  readonly column?: number | undefined
  readonly looksLike?: string | undefined
}

/** The code of a fault that something is not there that has to be: while somebody still writes, that is no news. */
export const neededFault = 'needed'
/** The code of what may be said as well. */
export const optionalFault = 'optional'

/** The body of an `application/problem+json` answer. */
export type ProblemBody = {
  readonly type: string
  readonly code: ProblemCode
  readonly status: number
  readonly title: string
  readonly detail: string
  readonly remedy: string
  readonly errors?: readonly Fault[]
  readonly requestId?: string
}
