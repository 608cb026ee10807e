import { afterAll } from '@jest/globals'
import { patience } from '../../../e2e/harness/programs.ts'
import { EvaluatorPool } from '../src/evaluation/evaluator-pool.ts'

/** Those of a file of tests; they end with it. */
export const evaluators = new EvaluatorPool({ timeMs: patience(1_000) })
afterAll(() => evaluators.close())
