import type { Declarations } from '@zbell/core'
import {
  type TriggerDefinition,
  type TriggerFault,
  type TriggerSurroundings,
  triggerLimits,
} from '@zbell/core/triggers'
import { checkCount } from '../api/index.ts'
import { Problem } from '../base/index.ts'
import { type Database, type Scope, whereOf } from '../database/index.ts'
import type { EvaluatorPool } from '../evaluation/index.ts'
import { type Intake, templateNamed } from '../notifications/index.ts'
import { type SourceQueries, type SourceRow, sourceStore } from '../sources/index.ts'
import { DueFiringDispatcher } from './due-firing-dispatcher.ts'
import { EventDispatcher } from './event-dispatcher.ts'
import type { FiringParts } from './firing-parts.ts'
import { deleteTrigger, enableTrigger, saveTrigger, type TriggerRow, triggerStore } from './store/triggers.ts'
import { type TrialInput, type TrialResult, Trials } from './trials.ts'
import { TriggerEvaluator } from './trigger-evaluator.ts'

/** So many triggers an app may have in an environment. */
const maxTriggers = 1_000

/** The use cases of triggers, for a route and for the clock that lets them fire. */
export class Triggers {
  readonly #database: Database
  readonly #evaluator: TriggerEvaluator
  readonly #trials: Trials
  readonly #queries: SourceQueries
  readonly #waiting: EventDispatcher
  readonly #due: DueFiringDispatcher

  constructor({
    evaluators,
    intake,
    ...given
  }: Omit<FiringParts, 'evaluator'> & { readonly intake: Intake; readonly evaluators: EvaluatorPool }) {
    const { database, queries } = given
    this.#database = database
    this.#queries = queries
    this.#evaluator = new TriggerEvaluator(evaluators)
    this.#trials = new Trials(database, intake, queries, this.#evaluator)
    const parts = { ...given, evaluator: this.#evaluator }
    this.#waiting = new EventDispatcher(parts)
    this.#due = new DueFiringDispatcher(parts)
  }

  /** Waits for what is running. */
  async close(): Promise<void> {
    await Promise.all([this.#waiting.close(), this.#due.close()])
  }

  /** @throws {Problem} `unknown-trigger` */
  async require(scope: Scope, name: string): Promise<TriggerRow> {
    const found = await triggerStore.find(this.#database, whereOf(scope), name)
    if (!found) throw new Problem('unknown-trigger', `There is no trigger ${name.slice(0, 80)}.`)
    return found
  }

  /** Saves a trigger under its name, on or off as it is unless that is said; no other is touched. @throws {Problem} `invalid-request` with each place */
  async save(
    scope: Scope,
    name: string,
    { enabled, ...definition }: TriggerDefinition & { readonly enabled?: boolean | undefined },
    actor: string,
  ): Promise<TriggerRow> {
    const around = await this.#around(scope, definition)
    refuse(await this.#evaluator.faults({ appNo: scope.app.no, definition }, around))
    const { source } = definition
    if (source !== 'occurrences' && !(await sourceStore.find(this.#database, whereOf(scope), source)))
      throw new Problem('invalid-request', `There is no source ${source.slice(0, 80)}.`, [
        { pointer: '/source', detail: 'is not a source of this app; occurrences is there without having been made' },
      ])
    checkCount('trigger', await triggerStore.countOthers(this.#database, whereOf(scope), name), maxTriggers)
    await saveTrigger(this.#database, whereOf(scope), { name, definition, enabled, madeBy: actor })
    return this.require(scope, name)
  }

  /** What a definition is held against: the columns that its source has now, and the templates that it names. */
  async #around(scope: Scope, { source: name, template, cases = [] }: TriggerDefinition): Promise<TriggerSurroundings> {
    const source = name === 'occurrences' ? undefined : await sourceStore.find(this.#database, whereOf(scope), name)
    const columns = source ? await this.#columnsOf(source) : undefined
    const references = [...new Set([template, ...cases.map((one) => one.template)].filter((one) => one !== undefined))]
    const templates = await Promise.all(
      references.slice(0, triggerLimits.cases + 1).map(async (reference) => {
        const found = await templateNamed(this.#database, scope, reference)
        return found ? [[reference, valuesOf(found.declares)] as const] : []
      }),
    )
    return { columns, templates: Object.fromEntries(templates.flat()) }
  }

  /** Nothing where they are not known, or are not the same for all rows. */
  async #columnsOf(source: SourceRow): Promise<readonly string[] | undefined> {
    if (source.definition.kind === 'segment') return ['user', 'segment']
    if (source.definition.kind !== 'table') return undefined
    const columns = Object.keys(await this.#queries.typesOf(source))
    return columns.length === 0 ? undefined : columns
  }

  async enable(scope: Scope, name: string, enabled: boolean): Promise<TriggerRow> {
    const { no } = await this.require(scope, name)
    await enableTrigger(this.#database, no, enabled)
    return this.require(scope, name)
  }

  async delete(scope: Scope, name: string): Promise<void> {
    await deleteTrigger(this.#database, (await this.require(scope, name)).no)
  }

  /** What would come of a row or an event; nothing is stored. */
  async try(scope: Scope, name: string, given: TrialInput): Promise<TrialResult> {
    return this.#trials.try(scope, (await this.require(scope, name)).definition, given)
  }

  /** Rings what would come of a row or an event, for nobody but whom somebody says. */
  async ringOnly(scope: Scope, name: string, given: TrialInput & { readonly only: string }, actor: string) {
    return this.#trials.ringOnly(scope, (await this.require(scope, name)).definition, given, actor)
  }

  /** Lets what waits fire, some at a time. @returns how many were this process’s to look at */
  fireWaiting(): Promise<number> {
    return this.#waiting.fire()
  }

  /** Rings what has waited, unless it is not needed any more. @returns how many were read */
  fireDue(): Promise<number> {
    return this.#due.fire()
  }
}

/** The values that a template knows, and those that a sending has to give. */
const valuesOf = (declares: Declarations) => ({
  knows: Object.keys(declares),
  needs: Object.entries(declares).flatMap(([name, { ofPerson, fallback }]) =>
    ofPerson || fallback !== undefined ? [] : [name],
  ),
})

/** @throws {Problem} `invalid-request` with each place */
function refuse(faults: readonly TriggerFault[]): void {
  const [first] = faults
  if (!first) return
  throw new Problem(
    'invalid-request',
    `${first.pointer || 'The trigger'} ${first.says}.`,
    faults.slice(0, 20).map(({ pointer, says, place }) => ({
      pointer,
      detail: place ? `line ${place.line}, column ${place.column}: ${says}` : says,
    })),
  )
}
