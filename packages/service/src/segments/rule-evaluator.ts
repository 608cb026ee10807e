import type { ExplainedRule, RuleSource } from '@zbell/core/rules'
import { type EvaluatorPool, pack } from '../evaluation/index.ts'
import { evaluated, lookLimits } from './evaluated.ts'
import type { DeviceFacts } from './store/rule-facts.ts'

/**
 * Evaluates rules in evaluator processes: a rule that counts occurrences by their data can take seconds for a person of whom there
 * are many.
 */
export class RuleEvaluator {
  readonly #evaluators: EvaluatorPool

  constructor(evaluators: EvaluatorPool) {
    this.#evaluators = evaluators
  }

  /**
   * Explains a rule for each of some devices.
   * @throws {Problem} `too-slow` or `too-many-requests`
   */
  explain(
    { appNo }: { readonly appNo: number },
    source: RuleSource,
    all: readonly DeviceFacts[],
  ): Promise<readonly ExplainedRule[]> {
    const packed = pack(all.map(({ facts }) => facts))
    const job = this.#evaluators.run({ appNo, use: 'explanations' }, lookLimits, 'explain-rule', { source, packed })
    return evaluated('Evaluating the rule', job)
  }
}
