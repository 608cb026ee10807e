import { RuleRefused } from '@zbell/core/rules'
import type { Fired, TriggerDefinition } from '@zbell/core/triggers'
import pLimit from 'p-limit'
import { foundOf, type KeptFound, keptFound } from '../sources/found.ts'
import { findAppByNo, type Scope } from '../store/apps/apps.ts'
import { DatabaseUnavailable } from '../store/errors.ts'
import { findSourceByNo, type SourceRow } from '../store/sources/sources.ts'
import { takeEvents, type WaitingEvent, waitingEvents } from '../store/triggers/events.ts'
import { type TriggerRow, triggersOfSource } from '../store/triggers/triggers.ts'
import { ByApp, type Leave } from './by-app.ts'
import type { KeptRing } from './due.ts'
import { ringOf } from './firing.ts'
import { type FiringParts, hearsOf, makeOrSay, ourFault, type Stored, stateOf, tell, together } from './firing-parts.ts'
import { type Came, givenOf, keyOf, logged, skippedAsLate } from './given.ts'
import { type Outcome, Storing } from './storing.ts'

/** Of an app so many are made ready side by side. */
const sideBySide = 6
/** What an app has made ready is stored after so long, and the rest of it made ready after that. */
const storedWithinMs = 1_000

/** Who listens to what comes by one way. */
type Lane = {
  readonly scope: Scope | undefined
  readonly source: SourceRow | undefined
  readonly triggers: readonly TriggerRow[]
}

type Prepared = { readonly event: WaitingEvent; readonly outcomes: readonly Outcome[] }

/** Lets triggers fire for what waits for them. */
export class WaitingEvents {
  readonly #parts: FiringParts
  readonly #byApp: ByApp

  constructor(parts: FiringParts) {
    this.#parts = parts
    this.#byApp = new ByApp(hearsOf(parts))
  }

  /** Ends when what is under way has. */
  close(): Promise<void> {
    return this.#byApp.close()
  }

  /**
   * Lets what waits fire, some at a time. What is stored of it, the notifications, and that it is done with are one
   * transaction: whatever dies, each fires once.
   * @returns how many were this process’s to look at
   */
  async fire(): Promise<number> {
    const { going } = this.#byApp
    if (!going) return 0
    const events = await waitingEvents(this.#parts.database, together, going)
    return this.#byApp.run(events, (own, leave) => this.#fireOwn(own, leave))
  }

  /** Lets what waits of one app fire, what is ready of it from time to time. */
  async #fireOwn(events: readonly WaitingEvent[], leave: Leave): Promise<number> {
    let ours = 0
    for (let rest = events; rest.length > 0 && !this.#byApp.isClosed; ) {
      const prepared = await this.#prepare(rest, performance.now() + storedWithinMs, leave)
      ours += await this.#storePrepared(prepared)
      const done = new Set(prepared.map(({ event }) => event))
      rest = rest.filter((event) => !done.has(event))
    }
    return ours
  }

  async #storePrepared(prepared: readonly Prepared[]): Promise<number> {
    try {
      return tell(this.#parts, await this.#storeAll(prepared))
    } catch (error) {
      if (error instanceof DatabaseUnavailable) throw error
      // One of them is to blame, and holds up no other.
      let ours = 0
      for (const one of prepared) ours += tell(this.#parts, await this.#storeAlone(one))
      return ours
    }
  }

  /** Stores what came of events that nobody else has taken meanwhile. */
  async #storeAll(prepared: readonly Prepared[]): Promise<Stored> {
    return this.#parts.database.transact(async (tx) => {
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
        this.#parts.hears.failed(row.name, error)
        const firing = { triggerNo, version, key, given: {}, state: 'fault' as const, says: ourFault }
        return { row, firing, made: undefined }
      })
      return this.#storeAll([{ ...one, outcomes }])
    }
  }

  /** Makes as many ready as there is time for. @param untilMs of this process */
  async #prepare(events: readonly WaitingEvent[], untilMs: number, leave: Leave): Promise<Prepared[]> {
    const lanes = new Map<string, Promise<Lane>>()
    const laneOf = (event: WaitingEvent): Promise<Lane> => {
      const name = `${event.appNo} ${event.environment} ${event.sourceNo}`
      const known = lanes.get(name) ?? this.#lane(event)
      lanes.set(name, known)
      return known
    }
    const inTurn = pLimit(sideBySide)
    const prepared = await Promise.all(
      events.map((event) =>
        inTurn(async (): Promise<Prepared[]> => {
          if (performance.now() > untilMs || this.#byApp.isClosed) return []
          // What is not ready when all of this ends waits for the next start.
          const outcomes = await this.#byApp.unlessClosed(this.#outcomes(event, await laneOf(event), leave))
          return outcomes ? [{ event, outcomes }] : []
        }),
      ),
    )
    return prepared.flat()
  }

  async #outcomes(event: WaitingEvent, { scope, source, triggers }: Lane, leave: Leave): Promise<Outcome[]> {
    const outcomes: Outcome[] = []
    const came = cameOf(event, source)
    if (scope && came)
      for (const row of triggers)
        if (isOfType(row.definition, came) && isHeard(row.definition, came))
          outcomes.push(await this.#outcome(scope, row, came, event.lateSeconds, leave))
    return outcomes
  }

  /** Who listens to what comes by one way. */
  async #lane({ appNo, environment, sourceNo }: WaitingEvent): Promise<Lane> {
    const app = await findAppByNo(this.#parts.database, appNo)
    const source = sourceNo === 0 ? undefined : await findSourceByNo(this.#parts.database, sourceNo)
    const where = { appNo, environment }
    const named = source ? await triggersOfSource(this.#parts.database, where, source.name) : []
    const isHappening = sourceNo === 0 || source?.definition.kind === 'incoming'
    const others = isHappening ? await triggersOfSource(this.#parts.database, where, 'occurrences') : []
    return { scope: app && { app, environment }, source, triggers: [...others, ...named] }
  }

  async #outcome(scope: Scope, row: TriggerRow, came: Came, lateSeconds: number, leave: Leave): Promise<Outcome> {
    const { no: triggerNo, version, name, definition } = row
    const about = { triggerNo, version, given: logged(came) }
    const unmade = (firing: Omit<Outcome['firing'], keyof typeof about>): Outcome => ({
      row,
      firing: { ...about, ...firing },
      made: undefined,
    })
    const skipped = skippedAsLate(definition, lateSeconds)
    if (skipped !== undefined) return unmade({ key: keyOf(came), state: 'dropped', says: skipped })
    const fired = await this.#fired(scope, row, came, leave)
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
    const made = await makeOrSay(this.#parts, scope, name, definition, ring)
    return { row, firing: { ...firing, ...stateOf(made) }, made }
  }

  /** One that was good when it was saved may be none of a later version, and may meet what nobody thought of: it holds up no other. */
  async #fired({ app }: Scope, row: TriggerRow, came: Came, onApart: Leave): Promise<Fired> {
    try {
      const asked = { appNo: app.no, definition: row.definition, kept: row, onApart }
      return await this.#parts.asking.fire(asked, givenOf(came), keyOf(came))
    } catch (error) {
      if (error instanceof RuleRefused) return { is: 'fault', says: error.message }
      this.#parts.hears.failed(row.name, error)
      return { is: 'fault', says: ourFault }
    }
  }
}

/** What came, as a trigger is asked about it. @returns undefined for a source that has gone */
function cameOf({ sourceNo, event }: WaitingEvent, source: SourceRow | undefined): Came | undefined {
  if (sourceNo === 0 || source?.definition.kind === 'incoming') return { is: 'event', event }
  return source && { is: 'row', found: foundOf(event as unknown as KeptFound), source: source.definition }
}

/** What a device reports is heard by a trigger that says so. */
const isHeard = ({ devices }: TriggerDefinition, came: Came): boolean =>
  came.is === 'row' || came.event.by !== 'device' || devices === true

const isOfType = ({ types }: TriggerDefinition, came: Came): boolean =>
  came.is === 'row' || types === undefined || types.includes(String(came.event.type))
