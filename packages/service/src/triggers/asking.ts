import {
  type ExplainedCase,
  type Fired,
  type Given,
  lengthOf,
  Trigger,
  type TriggerDefinition,
  type TriggerFault,
  triggerFaults,
} from '@zbell/core/triggers'
import { LRUCache } from 'lru-cache'
import {
  EvaluationFailed,
  type Evaluators,
  type GivenOf,
  type JobName,
  type ResultOf,
  type Share,
} from '../evaluation/evaluators.ts'

/** Whose trigger it is, and what it says. */
export type AskedTrigger = {
  readonly appNo: number
  readonly definition: TriggerDefinition
  /** Which version of which trigger it is, for one that is kept. */
  readonly kept?: { readonly no: number; readonly version: number }
  /** Hears that it is asked apart, which may take long. */
  readonly onApart?: () => void
}

/** A definition of so many characters is read, and so many of its parts go through so many characters, within some milliseconds. */
const quickChars = 8_000
const quickEffort = 1_000_000
const share: Share = { mostWaiting: 10_000, mostCharacters: 0, restMs: 0, tries: 3 }

/**
 * Asks triggers about rows and events. What takes some milliseconds at most is asked here; what has loops or patterns, or much to
 * go through, in a process of its own, where it can hold up nobody.
 */
export class Asking {
  readonly #evaluators: Evaluators
  /** To read a trigger takes longer than to ask it. */
  readonly #read = new LRUCache<string, Trigger>({ max: 1_000 })

  constructor(evaluators: Evaluators) {
    this.#evaluators = evaluators
  }

  /** @param key of the row or the event @throws {RuleRefused} for one that was good when it was saved, and is none by now */
  async fire(asked: AskedTrigger, given: Given, key: string): Promise<Fired> {
    const quick = this.#quick(asked, given)
    if (quick) return quick.fire(given, key)
    try {
      return await this.#apart(asked, 'fire', { definition: asked.definition, given, key })
    } catch (error) {
      if (error instanceof EvaluationFailed) return { is: 'fault', says: `asking it ${error.message}` }
      throw error
    }
  }

  /** As {@link fire}, with what was asked, clause by clause. */
  async explain(
    asked: AskedTrigger,
    given: Given,
    key: string,
  ): Promise<{ readonly fired: Fired; readonly cases: readonly ExplainedCase[] }> {
    const quick = this.#quick(asked, given)
    if (quick) return { fired: quick.fire(given, key), cases: quick.explain(given) }
    try {
      return await this.#apart(asked, 'fire-explained', { definition: asked.definition, given, key })
    } catch (error) {
      if (!(error instanceof EvaluationFailed)) throw error
      return { fired: { is: 'fault', says: `asking it ${error.message}` }, cases: [] }
    }
  }

  /** Whether what waited is not needed any more. @throws {RuleRefused} @throws {EvaluationFailed} */
  async isOver(asked: AskedTrigger, given: Given): Promise<boolean> {
    const quick = this.#quick(asked, given)
    return quick ? quick.isOver(given) : this.#apart(asked, 'is-over', { definition: asked.definition, given })
  }

  /** What is wrong with a definition. */
  async faults({ appNo, definition }: AskedTrigger): Promise<readonly TriggerFault[]> {
    if (lengthOf(definition) <= quickChars) return triggerFaults(definition)
    try {
      return await this.#evaluators.run(ownerOf(appNo), share, 'trigger-faults', { definition })
    } catch (error) {
      if (!(error instanceof EvaluationFailed)) throw error
      return [{ pointer: '', says: `cannot be read: reading it ${error.message}` }]
    }
  }

  /** The trigger, if it can be asked here. */
  #quick({ definition, kept }: AskedTrigger, given: Given): Trigger | undefined {
    const name = kept && `${kept.no} ${kept.version}`
    const known = name === undefined ? undefined : this.#read.get(name)
    if (!known && lengthOf(definition) > quickChars) return undefined
    const trigger = known ?? new Trigger(definition)
    if (name !== undefined) this.#read.set(name, trigger)
    if (trigger.effort === Number.POSITIVE_INFINITY) return undefined
    return trigger.effort * JSON.stringify(given).length <= quickEffort ? trigger : undefined
  }

  #apart<Name extends JobName>(
    { appNo, onApart }: AskedTrigger,
    name: Name,
    given: GivenOf<Name>,
  ): Promise<ResultOf<Name>> {
    onApart?.()
    return this.#evaluators.run(ownerOf(appNo), share, name, given)
  }
}

const ownerOf = (appNo: number): string => `triggers of ${appNo}`
