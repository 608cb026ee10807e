import type { ProblemBody } from '@zbell/contract'
import { ProblemError } from '@zbell/contract/client'

/**
 * Calls with what was given; where that is refused for want of something that somebody here can say, asks for it and calls again.
 * @param ask answers nothing where the problem is another one, or nobody is here to ask
 */
export async function asking<T>(
  call: (said: string | undefined) => Promise<T>,
  given: string | undefined,
  ask: (problem: ProblemBody) => Promise<string | undefined> | undefined,
): Promise<T> {
  try {
    return await call(given)
  } catch (error) {
    const said = given === undefined && error instanceof ProblemError ? await ask(error.problem) : undefined
    if (said === undefined) throw error
    return call(said)
  }
}
