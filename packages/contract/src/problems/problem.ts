import type { ProblemCode } from './catalogue.ts'

/** One place of a request that cannot be used. `pointer` is a JSON Pointer (RFC 6901) into the body. */
export type Fault = { readonly pointer: string; readonly detail: string }

/** The body of an `application/problem+json` answer. */
export type ProblemBody = {
  readonly type: string
  readonly code: ProblemCode
  readonly status: number
  readonly title: string
  readonly detail: string
  readonly does: string
  readonly errors?: readonly Fault[]
  readonly requestId?: string
}
