import { RuleRefused } from '@zbell/core/rules'
import { type ExplainedCase, type Fired, Trigger, type TriggerDefinition, triggerFaults } from '@zbell/core/triggers'
import type { Intake } from '../intake/intake.ts'
import { Problem } from '../problems/problem.ts'
import { findAppByNo, type Scope } from '../store/apps/apps.ts'
import { whereOf } from '../store/apps/where.ts'
import type { Database, Tx } from '../store/database.ts'
import { DatabaseUnavailable } from '../store/errors.ts'
import { takeEvents, type WaitingEvent, waitingEvents } from '../store/triggers/events.ts'
import {
  type DueFiring,
  dueFirings,
  type FiringState,
  firedLately,
  type NewFiring,
  settleFiring,
  storeFiring,
} from '../store/triggers/firings.ts'
import {
  countFirings,
  countOtherTriggers,
  deleteTrigger,
  enableTrigger,
  findTrigger,
  holdTrigger,
  pauseTrigger,
  saveTrigger,
  type TriggerRow,
  triggersOfSource,
} from '../store/triggers/triggers.ts'
import { type Made, makeNotification, type Ring, requestOf, ringOf } from './firing.ts'

/** So many triggers an app may have in an environment. */
const mostTriggers = 1_000
/** What happened is looked at so many at a time. */
const together = 50
/** More than so many times its busiest hour so far, and more than the app’s floor, is a runaway. */
const runawayTimes = 10

/** What came of a row or an event at a trigger, before it is stored. */
type Outcome = {
  readonly row: TriggerRow
  readonly firing: Omit<NewFiring, 'state'> & { readonly state: FiringState }
  readonly made: Made | undefined
}

/** What becomes of a firing that has waited. */
type Settled = {
  readonly state: FiringState
  readonly says?: string | undefined
  readonly notification?: string | undefined
  readonly made?: Made
}

/** What was stored, and of how many events; others may have been taken by somebody else. */
type Stored = { readonly events: number; readonly states: readonly FiringState[] }

type Prepared = { readonly event: WaitingEvent; readonly outcomes: readonly Outcome[] }

/** Who hears what comes of firings. */
export type Hears = {
  fired(state: FiringState): void
  /** A fault of ours. */
  failed(trigger: string, error: unknown): void
}

const ourFault = 'a fault of ours, which the service’s log tells'

/** What would come of a row or an event. */
export type Tried = {
  readonly is: 'fires' | 'no-case' | 'fault'
  readonly says: string | null
  readonly caseNo: number | null
  readonly key: string | null
  /** What was asked, clause by clause. */
  readonly cases: readonly ExplainedCase[]
  /** Whom it would reach and what they would get. */
  readonly review: Awaited<ReturnType<Intake['review']>> | null
}

/** The use cases of triggers, for a route and for the clock that lets them fire. */
export class Triggers {
  readonly #database: Database
  readonly #intake: Intake
  readonly #keptDays: number
  readonly #hears: Hears

  constructor(database: Database, intake: Intake, keptDays: number, hears: Hears) {
    this.#database = database
    this.#intake = intake
    this.#keptDays = keptDays
    this.#hears = hears
  }

  /** @throws {Problem} `unknown-trigger` */
  async need(scope: Scope, name: string): Promise<TriggerRow> {
    const found = await findTrigger(this.#database, whereOf(scope), name)
    if (!found) throw new Problem('unknown-trigger', `There is no trigger ${name.slice(0, 80)}.`)
    return found
  }

  /** Saves a trigger under its name; no other is touched. @throws {Problem} `invalid-request` with each place */
  async save(
    scope: Scope,
    name: string,
    { enabled, ...definition }: TriggerDefinition & { readonly enabled: boolean },
    actor: string,
  ): Promise<TriggerRow> {
    refuseFaults(definition)
    if (definition.source !== 'occurrences')
      throw new Problem('invalid-request', `There is no source ${definition.source.slice(0, 80)}.`, [
        { pointer: '/source', detail: 'is not a source of this app; occurrences is there without having been made' },
      ])
    if ((await countOtherTriggers(this.#database, whereOf(scope), name)) >= mostTriggers)
      throw new Problem('invalid-request', `An app has ${mostTriggers} triggers at most.`, [
        { pointer: '/trigger', detail: `would be one more than the ${mostTriggers} that an app may have` },
      ])
    await saveTrigger(this.#database, whereOf(scope), { name, definition, enabled, madeBy: actor })
    return this.need(scope, name)
  }

  async enable(scope: Scope, name: string, enabled: boolean): Promise<TriggerRow> {
    const { no } = await this.need(scope, name)
    await enableTrigger(this.#database, no, enabled)
    return this.need(scope, name)
  }

  async delete(scope: Scope, name: string): Promise<void> {
    await deleteTrigger(this.#database, (await this.need(scope, name)).no)
  }

  /** What would come of a row or an event; nothing is stored. */
  async try(
    scope: Scope,
    name: string,
    { event, row, before }: { readonly event?: unknown; readonly row?: unknown; readonly before?: unknown },
  ): Promise<Tried> {
    const { definition } = await this.need(scope, name)
    const given = { event, row, before, now: new Date() }
    const trigger = new Trigger(definition)
    const cases = trigger.explain(given)
    const fired = trigger.fire(given, keyOf(event))
    const none = { caseNo: null, key: null, cases, review: null }
    if (fired.is !== 'fires') return { ...none, is: fired.is, says: fired.says }
    try {
      const review = await this.#intake.review(scope, requestOf(ringOf(fired), definition), {})
      return { is: 'fires', says: null, caseNo: fired.case, key: fired.key, cases, review }
    } catch (error) {
      if (error instanceof Problem)
        return { ...none, caseNo: fired.case, key: fired.key, is: 'fault', says: error.message }
      throw error
    }
  }

  /**
   * Lets what happened fire, some at a time. What is stored of it, the notifications, and that it is done with are one
   * transaction: whatever dies, each fires once.
   * @returns how many were this process’s to look at
   */
  async fireWaiting(): Promise<number> {
    const events = await waitingEvents(this.#database, together)
    if (events.length === 0) return 0
    const prepared = await this.#prepare(events)
    try {
      return this.#tell(await this.#storeAll(prepared))
    } catch (error) {
      if (error instanceof DatabaseUnavailable) throw error
      // One of them is to blame, and holds up no other.
      let ours = 0
      for (const one of prepared) ours += this.#tell(await this.#storeAlone(one))
      return ours
    }
  }

  /** Stores what came of events that nobody else has taken meanwhile. */
  async #storeAll(prepared: readonly Prepared[]): Promise<Stored> {
    return this.#database.transact(async (tx) => {
      const taken = await takeEvents(
        tx,
        prepared.map(({ event }) => event.no),
      )
      const states: FiringState[] = []
      for (const { event, outcomes } of prepared)
        if (taken.has(event.no)) for (const outcome of outcomes) states.push(await this.#store(tx, outcome))
      return { events: taken.size, states }
    })
  }

  /** Stores what came of an event, or else that it could not be. */
  async #storeAlone(one: Prepared): Promise<Stored> {
    try {
      return await this.#storeAll([one])
    } catch (error) {
      if (error instanceof DatabaseUnavailable) throw error
      const outcomes = one.outcomes.map(({ row, firing: { triggerNo, version, key } }): Outcome => {
        this.#hears.failed(row.name, error)
        const firing = { triggerNo, version, key, given: {}, state: 'fault' as const, says: ourFault }
        return { row, firing, made: undefined }
      })
      return this.#storeAll([{ ...one, outcomes }])
    }
  }

  async #prepare(events: readonly WaitingEvent[]): Promise<Prepared[]> {
    const known = new Map<string, { readonly scope: Scope | undefined; readonly triggers: readonly TriggerRow[] }>()
    const prepared: Prepared[] = []
    for (const event of events) {
      const { appNo, environment } = event
      const name = `${appNo} ${environment}`
      if (!known.has(name)) {
        const app = await findAppByNo(this.#database, appNo)
        const triggers = await triggersOfSource(this.#database, { appNo, environment }, 'occurrences')
        known.set(name, { scope: app && { app, environment }, triggers })
      }
      const { scope, triggers } = known.get(name)!
      const outcomes: Outcome[] = []
      if (scope)
        for (const row of triggers)
          if (row.definition.types === undefined || row.definition.types.includes(String(event.event.type)))
            outcomes.push(await this.#outcome(scope, row, event.event))
      prepared.push({ event, outcomes })
    }
    return prepared
  }

  async #outcome(scope: Scope, row: TriggerRow, event: WaitingEvent['event']): Promise<Outcome> {
    const { no: triggerNo, version, name, definition } = row
    const about = { triggerNo, version, given: { event: bounded(event) } }
    const fired = firedBy(definition, event)
    if (fired.is !== 'fires')
      return {
        row,
        firing: {
          ...about,
          key: (fired.is === 'fault' ? fired.key : undefined) ?? keyOf(event),
          state: fired.is,
          says: fired.says,
        },
        made: undefined,
      }
    const ring = ringOf(fired)
    const firing = { ...about, key: fired.key, caseNo: fired.case }
    if (definition.after !== undefined && definition.after > 0)
      return { row, firing: { ...firing, state: 'waiting', ring, afterSeconds: definition.after }, made: undefined }
    const made = await this.#make(scope, name, definition, ring)
    return { row, firing: { ...firing, ...stateOf(made) }, made }
  }

  /** What cannot be made, whatever the fault, holds up nothing else; only a database that is away does. */
  async #make(scope: Scope, name: string, definition: TriggerDefinition, ring: Ring): Promise<Made> {
    try {
      return await makeNotification(
        { database: this.#database, keptDays: this.#keptDays },
        scope,
        name,
        definition,
        ring,
      )
    } catch (error) {
      if (error instanceof DatabaseUnavailable) throw error
      this.#hears.failed(name, error)
      return { is: 'fault', says: ourFault }
    }
  }

  /** Stores a firing with its notification, unless it fired for its key lately or is a runaway. */
  async #store(tx: Tx, { row, firing, made }: Outcome): Promise<FiringState> {
    const rings = firing.state === 'rung' || firing.state === 'waiting'
    const held = await holdTrigger(tx, row.no)
    if (!held?.enabled) return 'dropped'
    const { notMoreOftenThan } = row.definition
    const drop = async (state: FiringState, says: string): Promise<FiringState> => {
      const { triggerNo, version, key, given, caseNo } = firing
      await storeFiring(tx, { triggerNo, version, key, given, caseNo, state, says })
      return state
    }
    if (rings) {
      if (held.pausedBecause !== null) return drop('dropped', `paused: ${held.pausedBecause}`)
      if (notMoreOftenThan !== undefined && (await firedLately(tx, row.no, firing.key, notMoreOftenThan)))
        return drop('held', `it fired for ${firing.key} within the last ${notMoreOftenThan} seconds`)
      if (held.hourCount + 1 > Math.max(held.floor, held.busiest * runawayTimes)) {
        const because = `it fired ${held.hourCount} times within this hour, and ${held.busiest} times in its busiest hour before`
        await pauseTrigger(tx, row.no, because)
        return drop('dropped', `paused: ${because}`)
      }
      await countFirings(tx, row.no, { hourCount: held.hourCount + 1, busiest: held.busiest })
    }
    if (made?.is === 'made') for (const statement of made.statements) await tx.change(statement)
    await storeFiring(tx, firing)
    return firing.state
  }

  /** Rings what has waited, unless it is not needed any more. @returns how many were looked at */
  async fireDue(): Promise<number> {
    const due = await dueFirings(this.#database, together)
    for (const one of due) {
      const settled = await this.#settle(one)
      const state = await this.#storeSettled(one, settled).catch((error: unknown) => {
        if (error instanceof DatabaseUnavailable) throw error
        this.#hears.failed(one.name, error)
        return this.#storeSettled(one, { state: 'fault', says: ourFault })
      })
      if (state) this.#tell({ events: 1, states: [state] })
    }
    return due.length
  }

  /** @returns undefined when somebody else has settled it */
  async #storeSettled(one: DueFiring, { made, ...how }: Settled): Promise<FiringState | undefined> {
    return this.#database.transact(async (tx) => {
      if (!(await settleFiring(tx, one.no, how))) return undefined
      if (made?.is === 'made') for (const statement of made.statements) await tx.change(statement)
      return how.state
    })
  }

  async #settle(one: DueFiring): Promise<Settled> {
    if (one.enabled === 0) return { state: 'dropped', says: 'its trigger was switched off while it waited' }
    if (one.pausedBecause !== null) return { state: 'dropped', says: `paused: ${one.pausedBecause}` }
    const definition = JSON.parse(one.definition) as TriggerDefinition
    const { event } = JSON.parse(one.given) as { event?: unknown }
    if (isOver(definition, event)) return { state: 'over', says: 'unless holds by now' }
    const app = await findAppByNo(this.#database, one.appNo)
    if (!app) return { state: 'fault', says: 'its app has gone' }
    const scope = { app, environment: one.environment }
    const ring = JSON.parse(one.ring) as Ring
    const made = await this.#make(scope, one.name, definition, ring)
    return { ...stateOf(made), made }
  }

  /** @returns of how many events it was */
  #tell({ events, states }: Stored): number {
    if (states.includes('rung')) this.#intake.nudge()
    for (const state of states) this.#hears.fired(state)
    return events
  }
}

const stateOf = (made: Made): { state: FiringState; says: string | undefined; notification: string | undefined } =>
  made.is === 'made'
    ? { state: 'rung', says: undefined, notification: made.id }
    : made.is === 'nobody'
      ? { state: 'nobody', says: 'nobody in its target has a device', notification: undefined }
      : { state: 'fault', says: made.says, notification: undefined }

/** A trigger that was good when it was saved may be none of a later version; that is said, and holds up no other. */
function firedBy(definition: TriggerDefinition, event: unknown): Fired {
  try {
    return new Trigger(definition).fire({ event, now: new Date() }, keyOf(event))
  } catch (error) {
    if (error instanceof RuleRefused) return { is: 'fault', says: error.message }
    throw error
  }
}

function isOver(definition: TriggerDefinition, event: unknown): boolean {
  try {
    return new Trigger(definition).isOver({ event, now: new Date() })
  } catch (error) {
    if (error instanceof RuleRefused) return true
    throw error
  }
}

/** @throws {Problem} `invalid-request` with each place */
function refuseFaults(definition: TriggerDefinition): void {
  const faults = triggerFaults(definition)
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

/** The key of an event that its trigger does not name otherwise: what names an occurrence (CloudEvents 1.0 §3.1.1). */
function keyOf(event: unknown): string {
  const { source, id } = (event ?? {}) as { source?: unknown; id?: unknown }
  return `${String(source ?? '')} ${String(id ?? '')}`.trim().slice(0, 200)
}

/** What is kept of it in the log. */
const mostLoggedChars = 4_000
function bounded(event: Readonly<Record<string, unknown>>): unknown {
  const text = JSON.stringify(event)
  return text.length <= mostLoggedChars
    ? event
    : { ...event, data: `${text.length.toLocaleString('en')} characters, too many to be kept` }
}
