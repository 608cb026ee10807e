export {
  EvaluationFailed,
  type EvaluationLimits,
  type EvaluationOwner,
  EvaluationsBusy,
  EvaluatorPool,
} from './evaluator-pool.ts'
export { pack } from './jobs.ts'
export { type ReadYaml, readYaml } from './read-yaml.ts'
export { spawnBounded } from './spawn-bounded.ts'
