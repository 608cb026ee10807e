import { RuleRefused } from '@zbell/core/rules'
import { type Fired, type Row, Trigger, type TriggerDefinition, triggerFaults } from '@zbell/core/triggers'
import pLimit from 'p-limit'
import type { Intake } from '../intake/intake.ts'
import { Problem } from '../problems/problem.ts'
import { SourceFault } from '../sources/fault.ts'
import { foundOf, type KeptFound, keptFound } from '../sources/found.ts'
import type { SourceLooks } from '../sources/source-looks.ts'
import { findAppByNo, type Scope } from '../store/apps/apps.ts'
import { whereOf } from '../store/apps/where.ts'
import type { Database } from '../store/database.ts'
import { DatabaseUnavailable } from '../store/errors.ts'
import { findSource, findSourceByNo, type SourceRow } from '../store/sources/sources.ts'
import { takeEvents, type WaitingEvent, waitingEvents } from '../store/triggers/events.ts'
import { type DueFiring, dueFirings, type FiringState, putOffFiring, settleFiring } from '../store/triggers/firings.ts'
import {
  countOtherTriggers,
  deleteTrigger,
  enableTrigger,
  findTrigger,
  saveTrigger,
  type TriggerRow,
  triggersOfSource,
} from '../store/triggers/triggers.ts'
import { cameByNow, type KeptRing, type ReadDue, readDue } from './due.ts'
import { type Made, makeNotification, type Ring, ringOf } from './firing.ts'
import { type Came, givenOf, keyOf, logged, readTrigger, skippedAsLate } from './given.ts'
import { type Outcome, Storing } from './storing.ts'
import { Trials, type Tried, type TriedWith } from './trials.ts'

/** So many triggers an app may have in an environment. */
const mostTriggers = 1_000
/** What waits is looked at so many at a time, and so many of them are made ready side by side. */
const together = 200
const sideBySide = 6
/** A firing whose source cannot be asked again waits so much longer each time, and so long in all. */
const putOffSeconds = 15
const mostPutOffSeconds = 3_600

/** What becomes of a firing that has waited. */
type Settled = {
  readonly state: FiringState
  readonly says?: string | undefined
  readonly notification?: string | undefined
  readonly made?: Made
}

/** What was stored, and of how many events; others may have been taken by somebody else. */
type Stored = { readonly events: number; readonly states: readonly FiringState[] }

/** Who listens to what comes by one way. */
type Lane = {
  readonly scope: Scope | undefined
  readonly source: SourceRow | undefined
  readonly triggers: readonly TriggerRow[]
}

type Prepared = { readonly event: WaitingEvent; readonly outcomes: readonly Outcome[] }

/** Who hears what comes of firings. */
export type Hears = {
  fired(state: FiringState): void
  /** A fault of ours. */
  failed(trigger: string, error: unknown): void
}

const ourFault = 'a fault of ours, which the service’s log tells'

/** The use cases of triggers, for a route and for the clock that lets them fire. */
export class Triggers {
  readonly #database: Database
  readonly #intake: Intake
  readonly #looks: SourceLooks
  readonly #trials: Trials
  readonly #keptDays: number
  readonly #hears: Hears

  constructor(given: {
    readonly database: Database
    readonly intake: Intake
    /** For rows that are asked for again. */
    readonly looks: SourceLooks
    readonly keptDays: number
    readonly hears: Hears
  }) {
    this.#database = given.database
    this.#intake = given.intake
    this.#looks = given.looks
    this.#trials = new Trials(given.database, given.intake, given.looks)
    this.#keptDays = given.keptDays
    this.#hears = given.hears
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
    const { source } = definition
    if (source !== 'occurrences' && !(await findSource(this.#database, whereOf(scope), source)))
      throw new Problem('invalid-request', `There is no source ${source.slice(0, 80)}.`, [
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
  async try(scope: Scope, name: string, given: TriedWith): Promise<Tried> {
    return this.#trials.try(scope, (await this.need(scope, name)).definition, given)
  }

  /** Rings what would come of a row or an event, for nobody but whom somebody says. */
  async ringOnly(scope: Scope, name: string, given: TriedWith & { readonly only: string }, actor: string) {
    return this.#trials.ringOnly(scope, (await this.need(scope, name)).definition, given, actor)
  }

  /**
   * Lets what waits fire, some at a time. What is stored of it, the notifications, and that it is done with are one
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
      const storing = new Storing(tx)
      for (const { event, outcomes } of prepared)
        if (taken.has(event.no)) for (const outcome of outcomes) await storing.take(outcome)
      return { events: taken.size, states: await storing.end() }
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
    const lanes = new Map<string, Promise<Lane>>()
    const laneOf = (event: WaitingEvent): Promise<Lane> => {
      const name = `${event.appNo} ${event.environment} ${event.sourceNo}`
      const known = lanes.get(name) ?? this.#lane(event)
      lanes.set(name, known)
      return known
    }
    const inTurn = pLimit(sideBySide)
    return Promise.all(
      events.map((event) =>
        inTurn(async (): Promise<Prepared> => {
          const { scope, source, triggers } = await laneOf(event)
          const outcomes: Outcome[] = []
          const came = cameOf(event, source)
          if (scope && came)
            for (const row of triggers)
              if (isOfType(row.definition, came))
                outcomes.push(await this.#outcome(scope, row, came, event.lateSeconds))
          return { event, outcomes }
        }),
      ),
    )
  }

  /** Who listens to what comes by one way. */
  async #lane({ appNo, environment, sourceNo }: WaitingEvent): Promise<Lane> {
    const app = await findAppByNo(this.#database, appNo)
    const source = sourceNo === 0 ? undefined : await findSourceByNo(this.#database, sourceNo)
    const where = { appNo, environment }
    const named = source ? await triggersOfSource(this.#database, where, source.name) : []
    const isHappening = sourceNo === 0 || source?.definition.kind === 'incoming'
    const others = isHappening ? await triggersOfSource(this.#database, where, 'occurrences') : []
    return { scope: app && { app, environment }, source, triggers: [...others, ...named] }
  }

  async #outcome(scope: Scope, row: TriggerRow, came: Came, lateSeconds: number): Promise<Outcome> {
    const { no: triggerNo, version, name, definition } = row
    const about = { triggerNo, version, given: logged(came) }
    const unmade = (firing: Omit<Outcome['firing'], keyof typeof about>): Outcome => ({
      row,
      firing: { ...about, ...firing },
      made: undefined,
    })
    const skipped = skippedAsLate(definition, lateSeconds)
    if (skipped !== undefined) return unmade({ key: keyOf(came), state: 'dropped', says: skipped })
    const fired = this.#fired(row, came)
    if (fired.is !== 'fires') {
      const key = (fired.is === 'fault' ? fired.key : undefined) ?? keyOf(came)
      return unmade({ key, state: fired.is, says: fired.says })
    }
    const ring = ringOf(fired)
    const firing = { ...about, key: fired.key, caseNo: fired.case }
    if (definition.after !== undefined && definition.after > 0) {
      const kept: KeptRing = came.is === 'row' ? { ...ring, found: keptFound(came.found) } : ring
      return unmade({ ...firing, state: 'waiting', ring: kept, afterSeconds: definition.after })
    }
    const made = await this.#make(scope, name, definition, ring)
    return { row, firing: { ...firing, ...stateOf(made) }, made }
  }

  /** One that was good when it was saved may be none of a later version, and may meet what nobody thought of: it holds up no other. */
  #fired(row: TriggerRow, came: Came): Fired {
    try {
      return readTrigger(row).fire(givenOf(came), keyOf(came))
    } catch (error) {
      if (error instanceof RuleRefused) return { is: 'fault', says: error.message }
      this.#hears.failed(row.name, error)
      return { is: 'fault', says: ourFault }
    }
  }

  /** Whether what waited is not needed any more. */
  #isOver({ firing: { name }, definition, came }: ReadDue): boolean | 'fault' {
    if (definition.unless === undefined) return false
    try {
      return new Trigger(definition).isOver(givenOf(came))
    } catch (error) {
      if (error instanceof RuleRefused) return true
      this.#hears.failed(name, error)
      return 'fault'
    }
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

  /** Rings what has waited, unless it is not needed any more. @returns how many were looked at */
  async fireDue(): Promise<number> {
    const due = (await dueFirings(this.#database, together)).map(readDue)
    // Rows of one source are read again together, so that a source that is away costs its own firings one wait, and no others.
    const lanes = new Map<string, ReadDue[]>()
    for (const one of due) {
      const { appNo, environment, source } = one.firing
      const name = one.found && one.definition.unless !== undefined ? `${appNo} ${environment} ${source}` : ''
      lanes.set(name, [...(lanes.get(name) ?? []), one])
    }
    await Promise.all([...lanes].map(([name, ones]) => (name === '' ? this.#settleAll(ones) : this.#settleRows(ones))))
    return due.length
  }

  /** Settles firings about rows of one source. */
  async #settleRows(ones: readonly ReadDue[]): Promise<void> {
    const { appNo, environment, source: name } = ones[0]!.firing
    const source = await findSource(this.#database, { appNo, environment }, name)
    const found = ones.flatMap((one) => (one.found ? [{ key: one.found.key, row: one.found.row as Row }] : []))
    try {
      if (!source) throw new SourceFault('has gone')
      const rows = await this.#looks.freshRows(source, found)
      await this.#settleAll(
        ones.map((one) => ({ ...one, came: cameByNow(one.found!, rows.get(one.found!.key), source) })),
      )
    } catch (error) {
      if (!(error instanceof SourceFault)) throw error
      const says = `its source ${name} ${error.message}`
      for (const one of ones)
        if (one.firing.ageSeconds - (one.definition.after ?? 0) < mostPutOffSeconds)
          await putOffFiring(this.#database, one.firing.no, putOffSeconds)
        else await this.#settleAs(one.firing, { state: 'fault', says })
    }
  }

  async #settleAll(ones: readonly ReadDue[]): Promise<void> {
    for (const one of ones) await this.#settleAs(one.firing, await this.#settle(one))
  }

  async #settleAs(firing: DueFiring, settled: Settled): Promise<void> {
    const state = await this.#storeSettled(firing, settled).catch((error: unknown) => {
      if (error instanceof DatabaseUnavailable) throw error
      this.#hears.failed(firing.name, error)
      return this.#storeSettled(firing, { state: 'fault', says: ourFault })
    })
    if (state) this.#tell({ events: 1, states: [state] })
  }

  /** @returns undefined when somebody else has settled it */
  async #storeSettled(one: DueFiring, { made, ...how }: Settled): Promise<FiringState | undefined> {
    return this.#database.transact(async (tx) => {
      if (!(await settleFiring(tx, one.no, how))) return undefined
      if (made?.is === 'made') for (const statement of made.statements) await tx.change(statement)
      return how.state
    })
  }

  async #settle(one: ReadDue): Promise<Settled> {
    const { firing, definition, ring } = one
    if (firing.enabled === 0) return { state: 'dropped', says: 'its trigger was switched off while it waited' }
    if (firing.pausedBecause !== null) return { state: 'dropped', says: `paused: ${firing.pausedBecause}` }
    const isOver = this.#isOver(one)
    if (isOver === 'fault') return { state: 'fault', says: ourFault }
    if (isOver) return { state: 'over', says: 'unless holds by now' }
    const app = await findAppByNo(this.#database, firing.appNo)
    if (!app) return { state: 'fault', says: 'its app has gone' }
    const made = await this.#make({ app, environment: firing.environment }, firing.name, definition, ring)
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

/** What came, as a trigger is asked about it. @returns undefined for a source that has gone */
function cameOf({ sourceNo, event }: WaitingEvent, source: SourceRow | undefined): Came | undefined {
  if (sourceNo === 0 || source?.definition.kind === 'incoming') return { is: 'event', event }
  return source && { is: 'row', found: foundOf(event as unknown as KeptFound), source: source.definition }
}

const isOfType = ({ types }: TriggerDefinition, came: Came): boolean =>
  came.is === 'row' || types === undefined || types.includes(String(came.event.type))

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
