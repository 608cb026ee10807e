export { type CheckedRule, checkRule } from './check-rule.ts'
export { maxClauses } from './clauses.ts'
export { firstMs, lastMs, maxMs } from './duration-text.ts'
export { type Facts, type Happened, programOf, type RuleProgram, type Verdict } from './evaluate-rule.ts'
export {
  type ExplainedPart,
  type ExplainedRule,
  explainRule,
  explainRuleFor,
  type KnownSegment,
  type RuleSource,
  ruleText,
  type StoredFacts,
} from './explain-rule.ts'
export { nearestOf, type RuleFault, RuleRefused } from './fault.ts'
export { haversineWithin, largest, scale, versionKey } from './numbers.ts'
export { ruleLimits, segmentCalls } from './read-rule.ts'
export { ruleWarnings } from './rule-warnings.ts'
export {
  type Comparison,
  type DeviceField,
  deviceFields,
  innerOf,
  mirrored,
  partsOf,
  type ReceivedStep,
  type RuleType,
  type Term,
} from './term.ts'
export type { Vocabulary } from './vocabulary.ts'
