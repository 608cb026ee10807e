import { RuleRefused } from '@zbell/core/rules'
import type { Fired, TriggerDefinition } from '@zbell/core/triggers'
import pLimit from 'p-limit'
import { findAppByNo } from '../apps/index.ts'
import { DatabaseUnavailable, type Scope } from '../database/index.ts'
import { EvaluationsBusy } from '../evaluation/index.ts'
import { takeEvents, type WaitingEvent, waitingEvents } from '../events/index.ts'
import { findSourceByNo, foundOf, type KeptFound, queuedChange, type SourceRow } from '../sources/index.ts'
import { AppLimiter, type Detach } from './app-limiter.ts'
import type { KeptRing } from './due.ts'
import { ringOf } from './firing.ts'
import { FiringBatch, type Outcome } from './firing-batch.ts'
import {
  batchSize,
  buildOrFault,
  type FiringParts,
  type FiringResult,
  internalError,
  report,
  reportTo,
  stateOf,
} from './firing-parts.ts'
import { lockTriggers, type TriggerRow, triggersOfSource } from './store/triggers.ts'
import { givenOf, keyOf, logged, skippedAsLate, type TriggerInput } from './trigger-input.ts'

/** Events of one app that are prepared concurrently. */
const concurrency = 6
/** What is prepared is stored at least so often. */
const storeEveryMs = 1_000

/** Who listens to what comes by one way. */
type GatewayClient = {
  readonly scope: Scope | undefined
  readonly source: SourceRow | undefined
  readonly triggers: readonly TriggerRow[]
}

type Prepared = { readonly event: WaitingEvent; readonly outcomes: readonly Outcome[] }

/** Lets triggers fire for the events that wait for them. */
export class EventDispatcher {
  readonly #parts: FiringParts
  readonly #limiter: AppLimiter

  constructor(parts: FiringParts) {
    this.#parts = parts
    this.#limiter = new AppLimiter(reportTo(parts))
  }

  close(): Promise<void> {
    return this.#limiter.close()
  }

  /**
   * Lets what waits fire, some at a time. What is stored of it, the notifications, and that it is done with are one
   * transaction: whatever dies, each fires once.
   * @returns how many were this process’s to look at
   */
  async fire(): Promise<number> {
    const { busyApps } = this.#limiter
    if (!busyApps) return 0
    const events = await waitingEvents(this.#parts.database, batchSize, busyApps)
    return this.#limiter.run(events, (ofApp, detach) => this.#fireOfApp(ofApp, detach))
  }

  async #fireOfApp(events: readonly WaitingEvent[], detach: Detach): Promise<number> {
    let ours = 0
    for (let rest = events; rest.length > 0 && !this.#limiter.isClosed; ) {
      const prepared = await this.#prepare(rest, performance.now() + storeEveryMs, detach)
      ours += await this.#storePrepared(prepared)
      const done = new Set(prepared.map(({ event }) => event))
      rest = rest.filter((event) => !done.has(event))
      // The evaluators are busy; the rest is read again at the next poll.
      if (done.size === 0) break
    }
    return ours
  }

  async #storePrepared(prepared: readonly Prepared[]): Promise<number> {
    try {
      return report(this.#parts, await this.#storeAll(prepared))
    } catch (error) {
      if (error instanceof DatabaseUnavailable) throw error
      // One of them is to blame, and holds up no other.
      let ours = 0
      for (const one of prepared) ours += report(this.#parts, await this.#storeAlone(one))
      return ours
    }
  }

  /** Stores what came of events that nobody else has taken meanwhile. */
  async #storeAll(prepared: readonly Prepared[]): Promise<FiringResult> {
    const triggers = new Set(prepared.flatMap(({ outcomes }) => outcomes.map(({ row }) => row.no)))
    return this.#parts.database.transact(async (tx) => {
      await lockTriggers(tx, [...triggers])
      const taken = await takeEvents(
        tx,
        prepared.map(({ event }) => event.no),
      )
      const storing = new FiringBatch(tx)
      for (const { event, outcomes } of prepared)
        if (taken.has(event.no)) for (const outcome of outcomes) await storing.take(outcome)
      return { events: taken.size, states: await storing.end() }
    })
  }

  /** Stores what came of an event, or else that it could not be. */
  async #storeAlone(one: Prepared): Promise<FiringResult> {
    try {
      return await this.#storeAll([one])
    } catch (error) {
      if (error instanceof DatabaseUnavailable) throw error
      const outcomes = one.outcomes.map(({ row, firing: { triggerNo, version, key } }): Outcome => {
        this.#parts.observer.failed(row.name, error)
        const firing = { triggerNo, version, key, given: {}, state: 'fault' as const, says: internalError }
        return { row, firing, made: undefined }
      })
      return this.#storeAll([{ ...one, outcomes }])
    }
  }

  /** Prepares as many as there is time for. @param untilMs by `performance.now()` */
  async #prepare(events: readonly WaitingEvent[], untilMs: number, detach: Detach): Promise<Prepared[]> {
    const limiter = new Map<string, Promise<GatewayClient>>()
    const clientOf = (event: WaitingEvent): Promise<GatewayClient> => {
      const name = `${event.appNo} ${event.environment} ${event.sourceNo}`
      const known = limiter.get(name) ?? this.#lane(event)
      limiter.set(name, known)
      return known
    }
    const limit = pLimit(concurrency)
    const prepared = await Promise.all(
      events.map((event) =>
        limit(async (): Promise<Prepared[]> => {
          if (performance.now() > untilMs || this.#limiter.isClosed) return []
          // An event that is not prepared by the time of closing waits for the next start.
          const preparing = this.#outcomes(event, await clientOf(event), detach).catch((error: unknown) => {
            if (!(error instanceof EvaluationsBusy)) throw error
            return undefined
          })
          const outcomes = await this.#limiter.untilClosed(preparing)
          return outcomes ? [{ event, outcomes }] : []
        }),
      ),
    )
    return prepared.flat()
  }

  async #outcomes(event: WaitingEvent, { scope, source, triggers }: GatewayClient, detach: Detach): Promise<Outcome[]> {
    const outcomes: Outcome[] = []
    const came = cameOf(event, source)
    if (scope && came)
      for (const row of triggers)
        if (isOfType(row.definition, came) && isSubscribed(row.definition, came))
          outcomes.push(await this.#outcome(scope, row, came, event.lateSeconds, detach))
    return outcomes
  }

  /** Who listens to what comes by one way. */
  async #lane({ appNo, environment, sourceNo }: WaitingEvent): Promise<GatewayClient> {
    const app = await findAppByNo(this.#parts.database, appNo)
    const source = sourceNo === 0 ? undefined : await findSourceByNo(this.#parts.database, sourceNo)
    const where = { appNo, environment }
    const named = source ? await triggersOfSource(this.#parts.database, where, source.name) : []
    const isHappening = sourceNo === 0 || source?.definition.kind === 'incoming'
    const others = isHappening ? await triggersOfSource(this.#parts.database, where, 'occurrences') : []
    return { scope: app && { app, environment }, source, triggers: [...others, ...named] }
  }

  async #outcome(
    scope: Scope,
    row: TriggerRow,
    came: TriggerInput,
    lateSeconds: number,
    detach: Detach,
  ): Promise<Outcome> {
    const { no: triggerNo, version, name, definition } = row
    const about = { triggerNo, version, given: logged(came) }
    const unmade = (firing: Omit<Outcome['firing'], keyof typeof about>): Outcome => ({
      row,
      firing: { ...about, ...firing },
      made: undefined,
    })
    const skipped = skippedAsLate(definition, lateSeconds)
    if (skipped !== undefined) return unmade({ key: keyOf(came), state: 'dropped', says: skipped })
    const fired = await this.#fired(scope, row, came, detach)
    if (fired.is !== 'fires') {
      const key = (fired.is === 'fault' ? fired.key : undefined) ?? keyOf(came)
      return unmade({ key, state: fired.is, says: fired.says })
    }
    const ring = ringOf(fired)
    const firing = { ...about, key: fired.key, caseNo: fired.case }
    if (definition.after !== undefined && definition.after > 0) {
      const kept: KeptRing = came.is === 'row' ? { ...ring, found: queuedChange(came.found) } : ring
      return unmade({ ...firing, state: 'waiting', ring: kept, afterSeconds: definition.after })
    }
    const made = await buildOrFault(this.#parts, scope, name, definition, ring)
    return { row, firing: { ...firing, ...stateOf(made) }, made }
  }

  /** An error of one trigger is its own fault, so that it holds up no other. @throws {EvaluationsBusy} */
  async #fired({ app }: Scope, row: TriggerRow, came: TriggerInput, onSlow: Detach): Promise<Fired> {
    try {
      const trigger = { appNo: app.no, definition: row.definition, stored: row, onSlow }
      return await this.#parts.evaluator.fire(trigger, givenOf(came), keyOf(came))
    } catch (error) {
      if (error instanceof EvaluationsBusy) throw error
      if (error instanceof RuleRefused) return { is: 'fault', says: error.message }
      this.#parts.observer.failed(row.name, error)
      return { is: 'fault', says: internalError }
    }
  }
}

/** What came, as a trigger is asked about it. @returns undefined for a source that has gone */
function cameOf({ sourceNo, event }: WaitingEvent, source: SourceRow | undefined): TriggerInput | undefined {
  if (sourceNo === 0 || source?.definition.kind === 'incoming') return { is: 'event', event }
  return source && { is: 'row', found: foundOf(event as unknown as KeptFound), source: source.definition }
}

/** Events of devices go to triggers that ask for them. */
const isSubscribed = ({ devices }: TriggerDefinition, came: TriggerInput): boolean =>
  came.is === 'row' || came.event.by !== 'device' || devices === true

const isOfType = ({ types }: TriggerDefinition, came: TriggerInput): boolean =>
  came.is === 'row' || types === undefined || types.includes(String(came.event.type))
