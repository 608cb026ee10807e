import { EvaluationFailed, type EvaluationLimits, type EvaluatorPool } from '../evaluation/index.ts'
import { SourceFault } from './fault.ts'

const maxCharacters = 3_000_000
/** Parsed on the event loop, as much as this takes some 10 ms. */
const maxParsedCharacters = 1_000_000

type Evaluation = { readonly expression: string; readonly json: string; readonly maxCharacters?: number }

/**
 * Evaluates JSONata over JSON that somebody else sent. All sources of an app share one turn.
 * @returns the result as JSON; undefined when the text is not JSON
 * @throws {SourceFault} with a message that continues the name of the expression
 * @throws {EvaluationsBusy}
 */
export async function evaluateToJson(
  evaluators: EvaluatorPool,
  { appNo }: { readonly appNo: number },
  { expression, json, maxCharacters: most = maxCharacters }: Evaluation,
): Promise<string | undefined> {
  const limits: EvaluationLimits = { maxWaiting: 20, maxCharacters: most, backoffMs: 0, maxTries: 1 }
  try {
    const input = { expressions: [expression], json }
    const output = await evaluators.run({ appNo, use: 'sources' }, limits, 'jsonata', input)
    return output.is === 'not-json' ? undefined : (output.results[0] ?? 'null')
  } catch (error) {
    throw error instanceof EvaluationFailed ? new SourceFault(error.message) : error
  }
}

/** The same for results that are small enough to be parsed here. */
export async function evaluateJsonata(
  evaluators: EvaluatorPool,
  app: { readonly appNo: number },
  expression: string,
  json: string,
): Promise<{ readonly value: unknown } | undefined> {
  const text = await evaluateToJson(evaluators, app, { expression, json, maxCharacters: maxParsedCharacters })
  return text === undefined ? undefined : { value: JSON.parse(text) }
}
