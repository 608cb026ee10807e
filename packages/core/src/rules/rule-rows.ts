// A rule as rows, for those who write no CEL: a door of its own, which carries the reader of CEL and nothing else of rules.
export { rowsOfRule } from './read-rows.ts'
export { type FactHow, isWhole, noRows, type RowValue, type RuleGroup, type RuleRow } from './row.ts'
export { ruleOfRows } from './say-rows.ts'
