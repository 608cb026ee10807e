import { type Fault, type ProblemBody, type ProblemCode, problems, problemType } from '@zbell/contract'

/** Ends a request with a problem of the catalogue. */
export class Problem extends Error {
  override readonly name = 'Problem'
  readonly code: ProblemCode
  readonly faults: readonly Fault[] | undefined
  readonly remedy: string

  /**
   * @param detail says it for the case at hand; the catalogue's title when left out
   * @param remedy what to do in the case at hand; the catalogue's advice when left out
   */
  constructor(code: ProblemCode, detail?: string, faults?: readonly Fault[], remedy?: string) {
    super(detail ?? problems[code].title)
    this.code = code
    this.faults = faults
    this.remedy = remedy ?? problems[code].remedy
  }

  body(requestId: string): ProblemBody {
    const { status, title } = problems[this.code]
    return {
      type: problemType(this.code),
      code: this.code,
      status,
      title,
      detail: this.message,
      remedy: this.remedy,
      ...(this.faults ? { errors: this.faults } : {}),
      requestId,
    }
  }
}

/** A place in the request that cannot be used. */
export const invalid = (pointer: string, detail: string): Problem =>
  new Problem('invalid-request', `${pointer || 'The body'} ${detail}.`, [{ pointer, detail }])
