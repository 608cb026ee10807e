import { afterAll } from '@jest/globals'
import { EvaluatorPool } from '../src/evaluation/evaluator-pool.ts'

/** Those of a file of tests; they end with it. */
export const evaluators = new EvaluatorPool({ timeMs: 1_000 })
afterAll(() => evaluators.close())
