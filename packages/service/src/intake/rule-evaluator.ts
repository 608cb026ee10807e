import type { ExplainedRule, RuleSource } from '@zbell/core/rules'
import {
  EvaluationFailed,
  type EvaluationLimits,
  EvaluationsBusy,
  type EvaluatorPool,
} from '../evaluation/evaluator-pool.ts'
import { pack } from '../evaluation/jobs.ts'
import { Problem } from '../problems/problem.ts'
import type { DeviceFacts } from '../store/rules/rule-facts.ts'

const limits: EvaluationLimits = { maxWaiting: 200, maxCharacters: 1_000_000, restMs: 0, maxTries: 1 }

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
  async explain(
    { appNo }: { readonly appNo: number },
    source: RuleSource,
    all: readonly DeviceFacts[],
  ): Promise<readonly ExplainedRule[]> {
    const packed = pack(all.map(({ facts }) => facts))
    try {
      return await this.#evaluators.run(`rules of ${appNo}`, limits, 'explain-rule', { source, packed })
    } catch (error) {
      if (error instanceof EvaluationFailed) throw new Problem('too-slow', `Evaluating the rule ${error.message}.`)
      if (error instanceof EvaluationsBusy) throw new Problem('too-many-requests', `Of this app ${error.message}.`)
      throw error
    }
  }
}
