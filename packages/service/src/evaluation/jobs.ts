import { deserialize, serialize } from 'node:v8'
import type { When } from '@zbell/core/calendar'
import type { ExplainedRule, RuleSource, StoredFacts } from '@zbell/core/rules'
import type {
  ExplainedFiring,
  ExpressionInput,
  Fired,
  TriggerDefinition,
  TriggerFault,
  TriggerSurroundings,
} from '@zbell/core/triggers'
import type { ReadYaml } from './read-yaml.ts'

/** What an evaluator process does, by name. */
export type Jobs = {
  /** JSONata expressions over one JSON text. Each result is JSON, or null for an expression that yields nothing. */
  jsonata: {
    input: { readonly expressions: readonly string[]; readonly json: string }
    output: { readonly is: 'results'; readonly results: readonly (string | null)[] } | { readonly is: 'not-json' }
  }
  yaml: { input: { readonly text: string }; output: ReadYaml }
  'check-trigger': {
    input: { readonly definition: TriggerDefinition; readonly around: TriggerSurroundings }
    output: readonly TriggerFault[]
  }
  'fire-trigger': { input: TriggerInput & { readonly key: string }; output: Fired }
  'explain-trigger': { input: TriggerInput & { readonly key: string }; output: ExplainedFiring }
  'trigger-is-over': { input: TriggerInput; output: boolean }
  /** Explains a rule for each of some devices. */
  'explain-rule': {
    input: { readonly source: RuleSource; readonly packed: Packed<readonly StoredFacts[]> }
    output: readonly ExplainedRule[]
  }
  /** The first times of a schedule from an instant on, in ms since the epoch. */
  'times-of-schedule': {
    input: { readonly when: When; readonly fromMs: number; readonly count: number }
    output: readonly number[]
  }
  /** The places of a schedule's exceptions that leave out nothing. */
  'idle-exceptions': { input: { readonly when: When }; output: readonly number[] }
  /** For which events an expression holds. */
  'filter-events': {
    input: { readonly expression: string; readonly events: readonly unknown[] }
    output: readonly boolean[]
  }
}

/** A trigger and the row or event that it is evaluated for. */
type TriggerInput = { readonly definition: TriggerDefinition; readonly packed: Packed<ExpressionInput> }

/** Rows hold dates, and facts maps and sets, which the JSON between the processes does not have. */
export type Packed<Value> = string & { readonly packed: Value }
export const pack = <Value>(value: Value): Packed<Value> => serialize(value).toString('base64') as Packed<Value>
export const unpack = <Value>(packed: Packed<Value>): Value => deserialize(Buffer.from(packed, 'base64')) as Value

export type JobName = keyof Jobs
export type JobInput<Name extends JobName> = Jobs[Name]['input']
export type JobOutput<Name extends JobName> = Jobs[Name]['output']

/** What the service sends to a process. */
export type JobMessage = {
  readonly name: JobName
  readonly input: unknown
  /** The longest output, as JSON in UTF-16 units: a longer one is refused before it is sent back. */
  readonly maxCharacters: number
}

export type JobOutcome =
  | { readonly is: 'ready' }
  | { readonly is: 'done'; readonly output: unknown }
  | { readonly is: 'failed'; readonly says: string }

/** What a process sends back: first that it is ready, then the outcome of each job; and its processor time so far. */
export type JobAnswer = JobOutcome & { readonly usedMs: number }
