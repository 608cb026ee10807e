import { Problem } from '../base/index.ts'
import { EvaluationFailed, type EvaluationLimits, EvaluationsBusy } from '../evaluation/index.ts'

/** Of what somebody looks at, and waits for. */
export const lookLimits: EvaluationLimits = { maxWaiting: 200, maxCharacters: 1_000_000, backoffMs: 0, maxTries: 1 }

/**
 * Says what became of an evaluation that somebody waits for.
 * @param what a sentence begins with it, such as “Evaluating the rule”
 * @throws {Problem} `too-slow` or `too-many-requests`
 */
export async function evaluated<Output>(what: string, evaluating: Promise<Output>): Promise<Output> {
  try {
    return await evaluating
  } catch (error) {
    if (error instanceof EvaluationFailed) throw new Problem('too-slow', `${what} ${error.message}.`)
    if (error instanceof EvaluationsBusy) throw new Problem('too-many-requests', `Of this app ${error.message}.`)
    throw error
  }
}
