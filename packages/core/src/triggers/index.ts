/** What rings without a person: expressions over rows and events, triggers, and what changed in a table. */

export * from './cursor.ts'
export * from './explain-firing.ts'
export {
  Expression,
  type ExpressionInput,
  type ExpressionResult,
  type TriggerName,
  triggerNames,
} from './expression.ts'
export * from './source.ts'
export * from './table-state.ts'
export * from './trigger.ts'
