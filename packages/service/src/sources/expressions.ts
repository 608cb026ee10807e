import { EvaluationFailed, type EvaluationLimits, type EvaluatorPool } from '../evaluation/evaluator-pool.ts'
import { SourceFault } from './fault.ts'

/** The output is parsed on the event loop, which takes some 30 ms for as much as this. */
const limits: EvaluationLimits = { maxWaiting: 20, maxCharacters: 3_000_000, restMs: 0, maxTries: 1 }

/**
 * Evaluates JSONata over JSON that somebody else sent. All sources of an app share one turn.
 * @returns undefined when the text is not JSON
 * @throws {SourceFault} with a message that continues the name of the expression
 * @throws {EvaluationsBusy}
 */
export async function evaluateJsonata(
  evaluators: EvaluatorPool,
  { appNo }: { readonly appNo: number },
  expression: string,
  json: string,
): Promise<{ readonly value: unknown } | undefined> {
  try {
    const input = { expressions: [expression], json }
    const output = await evaluators.run(`sources of ${appNo}`, limits, 'jsonata', input)
    if (output.is === 'not-json') return undefined
    return { value: JSON.parse(output.results[0] ?? 'null') }
  } catch (error) {
    throw error instanceof EvaluationFailed ? new SourceFault(error.message) : error
  }
}
