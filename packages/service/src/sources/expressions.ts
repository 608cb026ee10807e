import { EvaluationFailed, type Evaluators, type Share } from '../evaluation/evaluators.ts'
import { SourceFault } from './fault.ts'

/** What an expression makes is read within some milliseconds. */
const share: Share = { mostWaiting: 20, mostCharacters: 3_000_000, restMs: 0, tries: 1 }

/**
 * JSONata over what strangers sent to a source. All sources of an app take one turn together.
 * @param input JSON
 * @throws {SourceFault} in words that go on from the expression’s name
 * @throws {EvaluationsBusy}
 */
export async function evaluateFor(
  evaluators: Evaluators,
  { appNo }: { readonly appNo: number },
  expression: string,
  input: string,
): Promise<unknown> {
  try {
    const [text] = await evaluators.jsonata(`sources of ${appNo}`, share, [expression], input)
    return JSON.parse(text ?? 'null') as unknown
  } catch (error) {
    throw error instanceof EvaluationFailed ? new SourceFault(error.message) : error
  }
}
