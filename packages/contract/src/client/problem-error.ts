import type { ProblemBody } from '../problems/problem.ts'

/** The service said no. */
export class ProblemError extends Error {
  readonly problem: ProblemBody

  constructor(problem: ProblemBody) {
    const places = problem.errors?.map((fault) => `${fault.pointer || 'the body'} ${fault.detail}`).join('; ')
    super(places ?? problem.detail)
    this.name = 'ProblemError'
    this.problem = problem
  }
}

/** The service was not reached, or what answered was not the service. */
export class UnreachableError extends Error {
  override readonly name = 'UnreachableError'
}
