import type { Target } from '@zbell/contract'
import {
  type Cell,
  type ExplainedCase,
  type Fired,
  keyOfRow,
  type Row,
  type SourceDefinition,
  TableRefused,
  type TriggerDefinition,
} from '@zbell/core/triggers'
import { invalid, Problem } from '../base/index.ts'
import { type Database, type Scope, whereOf } from '../database/index.ts'
import type { Intake } from '../notifications/index.ts'
import { SourceFault, type SourceQueries, type SourceRow, sourceStore, typedRow } from '../sources/index.ts'
import { requestOf, ringOf } from './firing.ts'
import type { TriggerEvaluator } from './trigger-evaluator.ts'
import { keyOf } from './trigger-input.ts'

/** What somebody tries a trigger with. */
type TriedRow = Readonly<Record<string, unknown>> | undefined
export type TrialInput = {
  readonly event?: TriedRow
  readonly row?: TriedRow
  readonly before?: TriedRow
  readonly gone?: boolean | undefined
  /** What the row leaves out is read from the source. */
  readonly take?: boolean | undefined
}

/** What would come of a row or an event. */
export type TrialResult = {
  readonly is: 'fires' | 'no-case' | 'fault'
  readonly says: string | null
  readonly caseNo: number | null
  readonly key: string | null
  /** What was asked, clause by clause. */
  readonly cases: readonly ExplainedCase[]
  /** Whom it would reach and what they would get. */
  readonly review: Awaited<ReturnType<Intake['review']>> | null
  /** What it may do that was not meant. */
  readonly warnings: { readonly pointer: string; readonly detail: string }[]
}

/** Trying a trigger, before it rings anybody. */
export class Trials {
  readonly #database: Database
  readonly #intake: Intake
  readonly #queries: SourceQueries
  readonly #evaluator: TriggerEvaluator

  constructor(database: Database, intake: Intake, queries: SourceQueries, evaluator: TriggerEvaluator) {
    this.#database = database
    this.#intake = intake
    this.#queries = queries
    this.#evaluator = evaluator
  }

  /** What would come of a row or an event; nothing is stored. */
  async try(scope: Scope, definition: TriggerDefinition, given: TrialInput): Promise<TrialResult> {
    const { cases, fired, ...explained } = await this.#fire(scope, definition, given)
    const warnings = explained.warnings.map(({ pointer, says }) => ({ pointer, detail: says }))
    const none = { caseNo: null, key: null, cases, review: null, warnings }
    if (fired.is !== 'fires') return { ...none, is: fired.is, says: fired.says }
    try {
      const request = requestOf(ringOf(fired), definition)
      const review = await this.#intake.review(scope, request, { user: onlyPerson(request.to) })
      return { ...none, is: 'fires', says: null, caseNo: fired.case, key: fired.key, review }
    } catch (error) {
      if (error instanceof Problem)
        return { ...none, caseNo: fired.case, key: fired.key, is: 'fault', says: error.message }
      throw error
    }
  }

  /** Rings what would come of a row or an event, for nobody but whom somebody says. */
  async ringOnly(
    scope: Scope,
    definition: TriggerDefinition,
    { only, ...given }: TrialInput & { readonly only: string },
    actor: string,
  ): Promise<{ readonly is: Fired['is']; readonly says: string | null; readonly notification: string | null }> {
    const { fired } = await this.#fire(scope, definition, given)
    if (fired.is !== 'fires') return { is: fired.is, says: fired.says, notification: null }
    const request = requestOf({ ...ringOf(fired), to: { any: [only] } }, definition)
    const { id } = await this.#intake.send(scope, request, { actor, idempotencyKey: undefined })
    return { is: 'fires', says: null, notification: id }
  }

  async #fire(
    scope: Scope,
    definition: TriggerDefinition,
    { event, row, before, gone = false, take = false }: TrialInput,
  ) {
    const { masked, ...typed } = await this.#typed(scope, definition.source, { row, before, take })
    const given = { event, ...typed, gone, now: new Date() }
    const key = await this.#keyOfTried(scope, definition.source, given)
    const explained = await this.#evaluator.explain({ appNo: scope.app.no, definition }, given, key)
    const warnings = masked.map((name) => ({
      pointer: '/take',
      says: `leaves out ${name}, which the source masks: say it in the row`,
    }))
    return { ...explained, warnings: [...explained.warnings, ...warnings] }
  }

  /** What names the event or the row that somebody tries, if its source says how. */
  async #keyOfTried(
    scope: Scope,
    name: string,
    { event, row }: { readonly event?: TriedRow; readonly row?: Row | undefined },
  ): Promise<string> {
    if (row === undefined) return keyOf({ is: 'event', event: event ?? {} })
    const source = await sourceStore.find(this.#database, whereOf(scope), name)
    return source ? keyOfTried(source.definition, row) : ''
  }

  /** A row that somebody pasted has the types of its source, and what it leaves out if that is to be taken from there. */
  async #typed(scope: Scope, name: string, { row, before, take }: Pick<TrialInput, 'row' | 'before' | 'take'>) {
    if (row === undefined) return { masked: [] }
    const source = await sourceStore.find(this.#database, whereOf(scope), name)
    const types = source ? await this.#queries.typesOf(source) : {}
    const pasted = typedRow(row, types)
    const taken = take && source ? await this.#taken(source, pasted) : undefined
    const masks = source && 'mask' in source.definition ? (source.definition.mask ?? []) : []
    const [masked, shown] = [true, false].map((is) =>
      Object.entries(taken ?? {}).filter(([column]) => masks.includes(column) === is),
    ) as [[string, Cell][], [string, Cell][]]
    return {
      row: { ...Object.fromEntries(shown), ...pasted },
      before: before && typedRow(before, types),
      masked: masked.flatMap(([column]) => (column in pasted ? [] : [column])),
    }
  }

  /** @throws {Problem} `invalid-request` when the source cannot be asked */
  async #taken(source: SourceRow, row: Row): Promise<Row | undefined> {
    try {
      const key = keyOfTried(source.definition, row)
      return (await this.#queries.freshRows(source, [{ key, row }])).get(key)
    } catch (error) {
      if (error instanceof SourceFault) throw invalid('/take', `cannot be done: ${source.name} ${error.message}`)
      throw error
    }
  }
}

/** Whose a target is that means one person and nobody else. */
function onlyPerson({ any = [], rule }: Target): string | undefined {
  const [one] = any
  return any.length === 1 && rule === undefined && one?.startsWith('user:') ? one.slice('user:'.length) : undefined
}

function keyOfTried(source: SourceDefinition, row: Row): string {
  const key = source.kind === 'table' || source.kind === 'poll' ? source.key : ['user']
  try {
    return keyOfRow(row, key)
  } catch (error) {
    if (error instanceof TableRefused) return ''
    throw error
  }
}
