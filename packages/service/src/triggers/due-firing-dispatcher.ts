import { RuleRefused } from '@zbell/core/rules'
import type { Row } from '@zbell/core/triggers'
import { findAppByNo } from '../apps/index.ts'
import { DatabaseUnavailable } from '../database/index.ts'
import { EvaluationFailed, EvaluationsBusy } from '../evaluation/index.ts'
import { SourceFault, sourceStore } from '../sources/index.ts'
import { AppLimiter, type Detach } from './app-limiter.ts'
import { cameByNow, type ReadDue, readDue } from './due.ts'
import type { FiringBuild } from './firing.ts'
import { batchSize, buildOrFault, type FiringParts, internalError, report, reportTo, stateOf } from './firing-parts.ts'
import { type DueFiring, dueFirings, type FiringState, putOffFiring, settleFiring } from './store/firings.ts'
import { givenOf } from './trigger-input.ts'

/** A firing whose source cannot be asked again waits so much longer each time, and so long in all. */
const putOffSeconds = 15
const maxPutOffSeconds = 3_600

/** What becomes of a firing that has waited. */
type Settled = {
  readonly state: FiringState
  readonly says?: string | undefined
  readonly notification?: string | undefined
  readonly made?: FiringBuild
}

/** Rings what has waited for as long as its trigger says. */
export class DueFiringDispatcher {
  readonly #parts: FiringParts
  readonly #limiter: AppLimiter

  constructor(parts: FiringParts) {
    this.#parts = parts
    this.#limiter = new AppLimiter(reportTo(parts))
  }

  close(): Promise<void> {
    return this.#limiter.close()
  }

  /** Rings what has waited, unless it is not needed any more. @returns how many were read */
  async fire(): Promise<number> {
    const { busyApps } = this.#limiter
    if (!busyApps) return 0
    const due = (await dueFirings(this.#parts.database, batchSize, busyApps)).map(readDue)
    return this.#limiter.run(due, (ofApp, detach) => this.#settleOfApp(ofApp, detach))
  }

  async #settleOfApp(due: readonly ReadDue[], detach: Detach): Promise<number> {
    // Rows of one source are read again together, so that a source that is away costs its own firings one wait, and no others.
    const limiter = new Map<string, ReadDue[]>()
    for (const one of due) {
      const { appNo, environment, source } = one.firing
      const name = one.found && one.definition.unless !== undefined ? `${appNo} ${environment} ${source}` : ''
      limiter.set(name, [...(limiter.get(name) ?? []), one])
    }
    await Promise.all(
      [...limiter].map(([name, ones]) =>
        name === '' ? this.#settleAll(ones, detach) : this.#settleRows(ones, detach),
      ),
    )
    return due.length
  }

  /** Settles firings about rows of one source. */
  async #settleRows(ones: readonly ReadDue[], detach: Detach): Promise<void> {
    const { appNo, environment, source: name } = ones[0]!.firing
    const source = await sourceStore.find(this.#parts.database, { appNo, environment }, name)
    const found = ones.flatMap((one) => (one.found ? [{ key: one.found.key, row: one.found.row as Row }] : []))
    let rows: ReadonlyMap<string, Row>
    try {
      if (!source) throw new SourceFault('has gone')
      rows = await this.#parts.queries.freshRows(source, found)
    } catch (error) {
      if (error instanceof DatabaseUnavailable) throw error
      // Put off whatever the reason: what stays due and fails at each pass would stand before all others.
      if (!(error instanceof SourceFault)) this.#parts.observer.failed(ones[0]!.firing.name, error)
      await this.#putOff(
        ones,
        `its source ${name} ${error instanceof SourceFault ? error.message : `has ${internalError}`}`,
      )
      return
    }
    await this.#settleAll(
      ones.map((one) => ({ ...one, came: cameByNow(one.found!, rows.get(one.found!.key), source!) })),
      detach,
    )
  }

  async #putOff(ones: readonly ReadDue[], says: string): Promise<void> {
    for (const { firing, definition } of ones)
      if (firing.ageSeconds - (definition.after ?? 0) < maxPutOffSeconds)
        await putOffFiring(this.#parts.database, firing.no, putOffSeconds)
      else await this.#settleAs(firing, { state: 'fault', says })
  }

  async #settleAll(ones: readonly ReadDue[], detach: Detach): Promise<void> {
    for (const one of ones) {
      const settled = await this.#limiter.untilClosed(this.#settle(one, detach))
      if (!settled) return
      await this.#settleAs(one.firing, settled)
    }
  }

  async #settleAs(firing: DueFiring, settled: Settled): Promise<void> {
    const state = await this.#storeSettled(firing, settled).catch((error: unknown) => {
      if (error instanceof DatabaseUnavailable) throw error
      this.#parts.observer.failed(firing.name, error)
      return this.#storeSettled(firing, { state: 'fault', says: internalError })
    })
    if (state) report(this.#parts, { events: 1, states: [state] })
  }

  /** @returns undefined when somebody else has settled it */
  async #storeSettled(one: DueFiring, { made, ...how }: Settled): Promise<FiringState | undefined> {
    return this.#parts.database.transact(async (tx) => {
      if (!(await settleFiring(tx, one.no, how))) return undefined
      if (made?.is === 'built') for (const statement of made.statements) await tx.change(statement)
      return how.state
    })
  }

  async #settle(one: ReadDue, detach: Detach): Promise<Settled> {
    const { firing, definition, ring } = one
    if (firing.enabled === 0) return { state: 'dropped', says: 'its trigger was switched off while it waited' }
    if (firing.pausedBecause !== null) return { state: 'dropped', says: `paused: ${firing.pausedBecause}` }
    const isOver = await this.#isOver(one, detach)
    if (typeof isOver === 'object') return { state: 'fault', says: isOver.fault }
    if (isOver) return { state: 'not-needed', says: 'unless holds by now' }
    const app = await findAppByNo(this.#parts.database, firing.appNo)
    if (!app) return { state: 'fault', says: 'its app has gone' }
    const made = await buildOrFault(
      this.#parts,
      { app, environment: firing.environment },
      firing.name,
      definition,
      ring,
    )
    return { ...stateOf(made), made }
  }

  /** Whether a delayed firing is no longer needed. @throws {EvaluationsBusy} */
  async #isOver(
    { firing: { appNo, name, triggerNo, version }, definition, came }: ReadDue,
    onSlow: Detach,
  ): Promise<boolean | { readonly fault: string }> {
    if (definition.unless === undefined) return false
    try {
      const stored = { no: triggerNo, version }
      return await this.#parts.evaluator.isOver({ appNo, definition, stored, onSlow }, givenOf(came))
    } catch (error) {
      if (error instanceof RuleRefused) return true
      if (error instanceof EvaluationsBusy) throw error
      if (error instanceof EvaluationFailed) return { fault: `evaluating unless ${error.message}` }
      this.#parts.observer.failed(name, error)
      return { fault: internalError }
    }
  }
}
