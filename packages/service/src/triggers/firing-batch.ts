import { changeTogether, type Tx } from '../database/index.ts'
import type { FiringBuild } from './firing.ts'
import { type FiringState, firedCount, firedLately, type NewFiring, storeFirings } from './store/firings.ts'
import { countFirings, lockTrigger, maxAnHour, pauseTrigger, type TriggerRow } from './store/triggers.ts'

/**
 * So many of each are logged an hour for a trigger: rows and events for which no case holds, and others that were not to ring
 * or could not. More of them are counted, so that nobody fills the log by reporting what matches nothing.
 */
const maxLoggedAnHour = { unmatched: 10, unrung: 200 }

/** Of one key within an hour: what is about one person or one row is no runaway, and stops no trigger. */
const maxOfKeyAnHour = 60

/** What came of a row or an event at a trigger, before it is stored. */
export type Outcome = {
  readonly row: TriggerRow
  readonly firing: Omit<NewFiring, 'state'> & { readonly state: FiringState }
  readonly made: FiringBuild | undefined
}

/** Stores what came of rows and events within one transaction. */
export class FiringBatch {
  readonly #tx: Tx
  readonly #held = new Map<number, LockedTrigger | undefined>()
  readonly #firings: NewFiring[] = []
  readonly #states: FiringState[] = []
  /** What stores the notifications, each after those that it needs. */
  readonly #statements: Extract<FiringBuild, { is: 'built' }>['statements'][number][] = []
  /** Which keys fired within this transaction. */
  readonly #rang = new Map<string, number>()

  constructor(tx: Tx) {
    this.#tx = tx
  }

  /** Takes a firing with its notification, unless it fired for its key lately or is a runaway. */
  async take({ row, firing, made }: Outcome): Promise<void> {
    const { state } = firing
    const held = await this.#hold(row.no)
    if (!held) return
    if (state !== 'rung' && state !== 'waiting') {
      this.#logUnrung(row, held, firing)
      // Nobody in its target has a device now; that it fired for this key counts all the same.
      if (state === 'nobody') this.#noteRang(row.no, firing.key)
      return
    }
    if (!held.enabled) return
    const drop = (as: FiringState, says: string): void => {
      const { triggerNo, version, key, given, caseNo } = firing
      this.#logUnrung(row, held, { triggerNo, version, key, given, caseNo, state: as, says })
    }
    if (held.pausedBecause !== null) return drop('dropped', `paused: ${held.pausedBecause}`)
    const { notMoreOftenThan } = row.definition
    if (notMoreOftenThan !== undefined && (await this.#firedLately(row.no, firing.key, notMoreOftenThan)))
      return drop('throttled', `it fired for ${firing.key} within the last ${notMoreOftenThan} seconds`)
    if (held.hourCount >= maxOfKeyAnHour && (await this.#firedOften(row.no, firing.key)))
      return drop(
        'throttled',
        `it fired ${maxOfKeyAnHour} times for ${firing.key} within an hour, which is the most for one key`,
      )
    if (held.hourCount + 1 > maxAnHour(held.busiest, held.floor)) {
      const because = `it fired ${held.hourCount} times within this hour, and ${held.busiest} times in its busiest hour before`
      held.pausedBecause = because
      await pauseTrigger(this.#tx, row.no, because)
      return drop('dropped', `paused: ${because}`)
    }
    held.hourCount++
    this.#noteRang(row.no, firing.key)
    if (made?.is === 'built') this.#statements.push(...made.statements)
    this.#firings.push(firing)
    this.#states.push(state)
  }

  /** Logs a firing that rings nobody, while there are few of them; else only counts it. */
  #logUnrung({ definition }: TriggerRow, held: LockedTrigger, firing: NewFiring): void {
    const { state } = firing
    this.#states.push(state)
    const isUnmatched = state === 'no-case'
    if (isUnmatched) held.unmatched++
    const count = isUnmatched ? ++held.hourUnmatched : ++held.hourUnrung
    const max = isUnmatched ? maxLoggedAnHour.unmatched : maxLoggedAnHour.unrung
    // Whether a key fired lately is looked up in the log.
    if (count > max && !(state === 'nobody' && definition.notMoreOftenThan !== undefined)) return
    const more = count === max ? '; more of them are not logged within this hour' : ''
    this.#firings.push({ ...firing, says: `${firing.says ?? ''}${more}` || undefined })
  }

  /** @returns what became of each */
  async end(): Promise<readonly FiringState[]> {
    for (const [no, held] of this.#held) if (held) await countFirings(this.#tx, no, held, held.unmatched)
    await changeTogether(this.#tx, this.#statements)
    await storeFirings(this.#tx, this.#firings)
    return this.#states
  }

  async #hold(no: number): Promise<LockedTrigger | undefined> {
    if (!this.#held.has(no)) {
      const held = await lockTrigger(this.#tx, no)
      this.#held.set(no, held && { ...held, unmatched: 0 })
    }
    return this.#held.get(no)
  }

  #noteRang(no: number, key: string): void {
    const name = `${no} ${key}`
    this.#rang.set(name, (this.#rang.get(name) ?? 0) + 1)
  }

  async #firedOften(no: number, key: string): Promise<boolean> {
    const here = this.#rang.get(`${no} ${key}`) ?? 0
    return (
      here >= maxOfKeyAnHour || here + (await firedCount(this.#tx, no, key, 3_600, maxOfKeyAnHour)) >= maxOfKeyAnHour
    )
  }

  async #firedLately(no: number, key: string, seconds: number): Promise<boolean> {
    return this.#rang.has(`${no} ${key}`) || (await firedLately(this.#tx, no, key, seconds))
  }
}

/** A trigger in hand, as it stands with what this transaction has done. */
type LockedTrigger = {
  readonly enabled: boolean
  pausedBecause: string | null
  hourCount: number
  hourUnmatched: number
  hourUnrung: number
  /** Within this transaction. */
  unmatched: number
  readonly busiest: number
  readonly floor: number
}
