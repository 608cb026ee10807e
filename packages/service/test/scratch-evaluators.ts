import { afterAll } from '@jest/globals'
import { Evaluators } from '../src/evaluation/evaluators.ts'

/** Those of a file of tests; they end with it. */
export const evaluators = new Evaluators({ withinMs: 1_000 })
afterAll(() => evaluators.close())
