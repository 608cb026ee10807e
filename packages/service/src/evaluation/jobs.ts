import type { ExplainedCase, Fired, Given, TriggerDefinition, TriggerFault } from '@zbell/core/triggers'
import type { ReadYaml } from './read-yaml.ts'

/** What an expression is given is not read where it would hold up others, so that it is found only there to be no JSON. */
export const notJson = 'was given what is no JSON'

/** What is evaluated apart from the service, by its name: what it is given, and what comes of it. */
export type Jobs = {
  /** JSONata over one input. Input and results are JSON; null for an expression that makes nothing. */
  jsonata: {
    given: { readonly expressions: readonly string[]; readonly input: string }
    result: readonly (string | null)[]
  }
  yaml: { given: { readonly text: string }; result: ReadYaml }
  'trigger-faults': { given: { readonly definition: TriggerDefinition }; result: TriggerFault[] }
  fire: { given: Asked & { readonly key: string }; result: Fired }
  'fire-explained': {
    given: Asked & { readonly key: string }
    result: { readonly fired: Fired; readonly cases: readonly ExplainedCase[] }
  }
  'is-over': { given: Asked; result: boolean }
  /** Of which events an expression holds. */
  holds: { given: { readonly expression: string; readonly events: readonly unknown[] }; result: readonly boolean[] }
}

/** A trigger, and what it is asked about. */
type Asked = { readonly definition: TriggerDefinition; readonly given: Given }

export type JobName = keyof Jobs
export type GivenOf<Name extends JobName> = Jobs[Name]['given']
export type ResultOf<Name extends JobName> = Jobs[Name]['result']
