import {
  type ExplainedFiring,
  type ExpressionInput,
  explainFiring,
  type Fired,
  lengthOf,
  Trigger,
  type TriggerDefinition,
  type TriggerFault,
  type TriggerSurroundings,
  triggerFaults,
} from '@zbell/core/triggers'
import { LRUCache } from 'lru-cache'
import { Problem } from '../base/index.ts'
import {
  EvaluationFailed,
  type EvaluationLimits,
  type EvaluationOwner,
  EvaluationsBusy,
  type EvaluatorPool,
  pack,
} from '../evaluation/index.ts'

export type EvaluatedTrigger = {
  readonly appNo: number
  readonly definition: TriggerDefinition
  /** The stored version, whose parsed form is cached. */
  readonly stored?: { readonly no: number; readonly version: number }
  /** Called before an evaluation in a process, which may take long. */
  readonly onSlow?: () => void
}

/** A definition of so many characters is parsed inline, which takes some milliseconds. */
const maxInlineCharacters = 8_000
/** Parts of a trigger times characters of the row or event: up to this, evaluation takes some milliseconds. */
const maxInlineEffort = 1_000_000
const firingLimits: EvaluationLimits = { maxWaiting: 100, maxCharacters: 1_000_000, backoffMs: 0, maxTries: 3 }
/** Trials have turns of their own, so that they delay no firing. */
const trialLimits: EvaluationLimits = { maxWaiting: 20, maxCharacters: 1_000_000, backoffMs: 0, maxTries: 1 }

/**
 * Evaluates triggers: inline where that takes a few milliseconds at most; otherwise (loops, patterns, large rows and events) in an
 * evaluator process.
 */
export class TriggerEvaluator {
  readonly #evaluators: EvaluatorPool
  readonly #parsed = new LRUCache<string, Trigger>({ max: 1_000 })

  constructor(evaluators: EvaluatorPool) {
    this.#evaluators = evaluators
  }

  /**
   * @param key of the row or event
   * @throws {RuleRefused} for a stored definition that this version no longer accepts
   */
  async fire(trigger: EvaluatedTrigger, given: ExpressionInput, key: string): Promise<Fired> {
    const inline = this.#inline(trigger, given)
    if (inline) return inline.fire(given, key)
    const { appNo, definition, onSlow } = trigger
    onSlow?.()
    try {
      return await this.#evaluators.run(firingsOf(appNo), firingLimits, 'fire-trigger', {
        definition,
        packed: pack(given),
        key,
      })
    } catch (error) {
      if (error instanceof EvaluationFailed) return { is: 'fault', says: `evaluating it ${error.message}` }
      throw error
    }
  }

  /** Whether a delayed firing is no longer needed. @throws {RuleRefused} as {@link fire} @throws {EvaluationFailed} */
  async isOver(trigger: EvaluatedTrigger, given: ExpressionInput): Promise<boolean> {
    const inline = this.#inline(trigger, given)
    if (inline) return inline.isOver(given)
    const { appNo, definition, onSlow } = trigger
    onSlow?.()
    return this.#evaluators.run(firingsOf(appNo), firingLimits, 'trigger-is-over', {
      definition,
      packed: pack(given),
    })
  }

  /** As {@link fire}, for somebody who tries the trigger. @throws {Problem} `too-many-requests` */
  async explain(trigger: EvaluatedTrigger, given: ExpressionInput, key: string): Promise<ExplainedFiring> {
    const inline = this.#inline(trigger, given)
    if (inline) return explainFiring(inline, given, key)
    const { appNo, definition } = trigger
    const packed = pack(given)
    return this.#try(
      () => this.#evaluators.run(trialsOf(appNo), trialLimits, 'explain-trigger', { definition, packed, key }),
      (says) => ({ fired: { is: 'fault', says: `evaluating it ${says}` }, cases: [], warnings: [] }),
    )
  }

  /** What is wrong with a definition. @throws {Problem} `too-many-requests` */
  async faults({ appNo, definition }: EvaluatedTrigger, around: TriggerSurroundings): Promise<readonly TriggerFault[]> {
    if (lengthOf(definition) <= maxInlineCharacters) return triggerFaults(definition, around)
    return this.#try(
      () => this.#evaluators.run(trialsOf(appNo), trialLimits, 'check-trigger', { definition, around }),
      (says) => [{ pointer: '', says: `cannot be checked: checking it ${says}` }],
    )
  }

  async #try<Output>(evaluate: () => Promise<Output>, onFailed: (says: string) => Output): Promise<Output> {
    try {
      return await evaluate()
    } catch (error) {
      if (error instanceof EvaluationFailed) return onFailed(error.message)
      if (error instanceof EvaluationsBusy) throw new Problem('too-many-requests', `Of this app ${error.message}.`)
      throw error
    }
  }

  /** The parsed trigger, if it can be evaluated inline. */
  #inline({ definition, stored }: EvaluatedTrigger, given: ExpressionInput): Trigger | undefined {
    const name = stored && `${stored.no} ${stored.version}`
    const cached = name === undefined ? undefined : this.#parsed.get(name)
    if (!cached && lengthOf(definition) > maxInlineCharacters) return undefined
    const trigger = cached ?? new Trigger(definition)
    if (name !== undefined) this.#parsed.set(name, trigger)
    if (trigger.effort === Number.POSITIVE_INFINITY) return undefined
    return trigger.effort * JSON.stringify(given).length <= maxInlineEffort ? trigger : undefined
  }
}

const firingsOf = (appNo: number): EvaluationOwner => ({ appNo, use: 'firings' })
const trialsOf = (appNo: number): EvaluationOwner => ({ appNo, use: 'trials' })
