import type { ProblemCode } from '@zbell/contract'
import { ProblemError, UnreachableError } from '@zbell/contract/client'

/** What a script can tell failures apart by. */
export const exitCodes = {
  done: 0,
  internal: 1,
  usage: 2,
  unreachable: 3,
  notAllowed: 4,
  notFound: 5,
  invalid: 6,
  tryLater: 7,
  nobodyReached: 8,
} as const

/** A wrong call of the command line, said in one sentence. */
export class UsageError extends Error {
  override readonly name = 'UsageError'
}

/** A refusal as one sentence: what is wrong; what to do. Where it names several places, each follows on a line of its own. */
export function sayFailure(error: unknown): { readonly text: string; readonly code: number } {
  if (error instanceof UsageError) return { text: error.message, code: exitCodes.usage }
  if (error instanceof UnreachableError) {
    return { text: `${error.message}; is the service running, and is --url right?`, code: exitCodes.unreachable }
  }
  if (error instanceof ProblemError) {
    const { status, remedy, code, errors = [] } = error.problem
    // One place stands in the sentence already.
    const places =
      errors.length > 1 ? errors.map(({ pointer, detail }) => `\n  ${pointer || 'the body'}: ${detail}`) : []
    return {
      text: `${sentence(error.problem.detail)}; ${lowerFirst(remedy).replace(/\.$/, '')}.${places.join('')}`,
      code: codeOf(status, code),
    }
  }
  return {
    text: `something in zbell failed: ${error instanceof Error ? error.message : String(error)}`,
    code: exitCodes.internal,
  }
}

function codeOf(status: number, code: ProblemCode): number {
  if (status === 401 || status === 403) return exitCodes.notAllowed
  if (status === 404) return exitCodes.notFound
  if (status === 429 || status === 503) return exitCodes.tryLater
  if (code === 'internal-error') return exitCodes.internal
  return exitCodes.invalid
}

const sentence = (text: string): string => text.replace(/\.$/, '')
const lowerFirst = (text: string): string => text.charAt(0).toLowerCase() + text.slice(1)
