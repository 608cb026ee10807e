import { randomBytes } from 'node:crypto'
import type { SettledRequest } from '@zbell/contract'
import { type Mode, type Target, uuidV7, type Values, type Writing } from '@zbell/core'
import { timingOf, type When } from '@zbell/core/calendar'
import { checkCount } from '../api/index.ts'
import { findAppByNo } from '../apps/index.ts'
import { Problem } from '../base/index.ts'
import { type Database, databaseTime, type Scope, whereOf } from '../database/index.ts'
import type { Signals } from '../engine/index.ts'
import type { EvaluatorPool } from '../evaluation/index.ts'
import {
  buildNotification,
  draftOf,
  findScheduledByName,
  type Intake,
  neverRings,
  nextTime,
  nextTimes,
  pauseIn,
  readersHourAt,
  readersOf,
  scheduledBefore,
} from '../notifications/index.ts'
import { evaluated, lookLimits } from '../segments/index.ts'
import { checkReferences } from '../targets/index.ts'
import { type RunRow, settleTime, skippedTimes } from './store/runs.ts'
import {
  type DueSchedule,
  deleteSchedule,
  deleteSchedules,
  lockSchedules,
  moveOn,
  pauseSchedule,
  type ScheduleRow,
  saveSchedule,
  scheduleStore,
  schedulesBefore,
} from './store/schedules.ts'

/** What somebody wants rung at its times. */
export type ScheduleRequest = {
  readonly when: When
  readonly notification: SettledRequest
  readonly graceSeconds: number
  readonly paused: boolean
}

/** Something that rings within the next days. */
export type UpcomingItem = {
  readonly dueAt: Date
  readonly schedule: string | null
  readonly notification: string | null
  readonly name: string | null
  readonly content: Writing
  readonly values: Values | undefined
  readonly template: string | null
  /** By the clock of each reader. */
  readonly readersHour: string | null
  readonly paused: boolean
  readonly repeats: boolean
  readonly target: Target
  readonly mode: Mode
  readonly channel: string | null
}

/** So many schedules an app may have in an environment. */
const maxSchedules = 100_000
/** So many times of one schedule, and of all together, are listed as upcoming. */
const maxComing = { each: 100, all: 1_000 }

const newId = (): string => uuidV7(Date.now(), randomBytes(10))

/** The use cases of schedules, for a route and for the clock that rings them. */
export class Schedules {
  readonly #database: Database
  readonly #keptDays: number
  readonly #intake: Intake
  readonly #signals: Signals
  readonly #evaluators: EvaluatorPool

  constructor(
    database: Database,
    intake: Intake,
    evaluators: EvaluatorPool,
    { keptDays, signals }: { readonly keptDays: number; readonly signals: Signals },
  ) {
    this.#signals = signals
    this.#database = database
    this.#intake = intake
    this.#evaluators = evaluators
    this.#keptDays = keptDays
  }

  /** @throws {Problem} `unknown-schedule` */
  async require(scope: Scope, name: string): Promise<ScheduleRow> {
    const found = await scheduleStore.find(this.#database, whereOf(scope), name)
    if (!found) throw new Problem('unknown-schedule', `There is no schedule ${name.slice(0, 80)}.`)
    return found
  }

  /**
   * Saves a schedule under its name. A single notification that waits under it makes room for it.
   * @throws {Problem} `never-rings`, or for what the notification names
   */
  async save(scope: Scope, name: string, request: ScheduleRequest, actor: string): Promise<ScheduleRow> {
    const { when, notification, graceSeconds, paused } = request
    // As it would be sent now: what it names is there, and its template takes these values.
    await checkReferences(this.#database, scope, notification.to)
    await draftOf({ database: this.#database, keptDays: this.#keptDays }, scope, notification)
    const nowMs = (await databaseTime(this.#database)).getTime()
    await this.#checkExceptions(scope, when)
    // What was left out by hand stays so, also when something else is changed.
    const earlier = await scheduleStore.find(this.#database, whereOf(scope), name)
    const skipped = new Set(earlier && (await this.skipped([earlier])).get(earlier.no)?.map((at) => at.getTime()))
    let nextAt = await nextTime(timingOf(when, nowMs), nowMs - 1)
    while (nextAt && skipped.has(nextAt.getTime())) nextAt = await nextTime(timingOf(when, nowMs), nextAt.getTime())
    if (nextAt === undefined) throw neverRings('/when')
    checkCount('schedule', await scheduleStore.countOthers(this.#database, whereOf(scope), name), maxSchedules)
    const waiting = await findScheduledByName(this.#database, scope, name)
    const settled = when.afterSeconds === undefined ? when : { at: nextAt.toISOString() }
    const given = { name, when: settled, notification, graceSeconds, paused, nextAt, nextId: newId(), madeBy: actor }
    await this.#database.transact(async (tx) => {
      if (waiting) await pauseIn(tx, waiting.no, 'cancelled')
      await saveSchedule(tx, whereOf(scope), given)
    })
    if (waiting) this.#signals.emit('pause')
    return this.require(scope, name)
  }

  /** @throws {Problem} `invalid-request` for an exception that leaves out nothing, `too-slow` */
  async #checkExceptions({ app }: Scope, when: When): Promise<void> {
    const { except = [] } = when
    if (except.length === 0) return
    const job = this.#evaluators.run({ appNo: app.no, use: 'previews' }, lookLimits, 'idle-exceptions', { when })
    const idle = await evaluated('Looking through its exceptions', job)
    if (idle.length === 0) return
    const errors = idle.map((n) => ({
      pointer: `/when/except/${n}`,
      detail: `is ${except[n]}, which is none of its times`,
    }))
    throw new Problem('invalid-request', `${errors[0]!.pointer} ${errors[0]!.detail}.`, errors)
  }

  /** The times ahead that were left out by hand, of each schedule. */
  skipped(schedules: readonly ScheduleRow[]): Promise<ReadonlyMap<number, readonly Date[]>> {
    return skippedTimes(
      this.#database,
      schedules.map(({ no }) => no),
    )
  }

  /** Pauses a schedule, or lets it go on with its next time from now. @throws {Problem} `unknown-schedule` */
  async pause(scope: Scope, name: string, paused: boolean): Promise<ScheduleRow> {
    const schedule = await this.require(scope, name)
    const nowMs = (await databaseTime(this.#database)).getTime()
    // A time that lies ahead may have been chosen, as by leaving out the one before it.
    const isAhead = schedule.nextAt === null || schedule.nextAt.getTime() > nowMs
    const nextAt =
      paused || isAhead ? schedule.nextAt : ((await nextTime(timingOf(schedule.when, nowMs), nowMs)) ?? null)
    await pauseSchedule(this.#database, schedule.no, paused, nextAt)
    return this.require(scope, name)
  }

  /** Cancels a schedule, or the single notification that waits under a name. @throws {Problem} `unknown-schedule` */
  async cancel(scope: Scope, name: string): Promise<void> {
    const schedule = await scheduleStore.find(this.#database, whereOf(scope), name)
    if (schedule) return deleteSchedule(this.#database, schedule.no)
    const waiting = await findScheduledByName(this.#database, scope, name)
    if (!waiting) throw new Problem('unknown-schedule', `There is no schedule ${name.slice(0, 80)}.`)
    await this.#intake.cancel(scope, waiting.id)
  }

  /** @param believed how many there are @throws {Problem} `schedules-changed` */
  async cancelAll(scope: Scope, believed: number): Promise<number> {
    const count = await deleteSchedules(this.#database, whereOf(scope), believed)
    if (count !== believed)
      throw new Problem('schedules-changed', `There are ${count} schedules, and not ${believed}; none was cancelled.`)
    return count
  }

  /** Leaves out the next time. @throws {Problem} `unknown-schedule`, `never-rings` when there is none */
  async skip(scope: Scope, name: string): Promise<ScheduleRow> {
    const schedule = await this.require(scope, name)
    if (schedule.nextAt === null) throw neverRings('/when')
    const { nextAt } = schedule
    const following = (await nextTime(timingOf(schedule.when, nextAt.getTime()), nextAt.getTime())) ?? null
    await this.#database.transact(async (tx) => {
      // Changed, or rung, meanwhile: then it is another time that is next.
      if (!(await lockSchedules(tx, [schedule])).has(schedule.no)) return
      if (!(await settleTime(tx, schedule.no, { dueAt: nextAt, state: 'skipped' }))) return
      await moveOn(tx, schedule.no, following, newId())
    })
    return this.require(scope, name)
  }

  /** Rings a schedule now, beside its times. @throws {Problem} for what cannot be sent */
  async run(scope: Scope, name: string): Promise<Omit<RunRow, 'no'>> {
    const schedule = await this.require(scope, name)
    const now = await databaseTime(this.#database)
    const id = newId()
    // By hand it rings at once, also where each reader’s clock would say otherwise.
    const statements = await this.#statements(scope, schedule, { id, dueAt: now, atOnce: true })
    const run = { dueAt: now, state: 'rung', notification: id, says: 'rung by hand' } as const
    await this.#database.transact(async (tx) => {
      for (const statement of statements) await tx.change(statement)
      await settleTime(tx, schedule.no, run)
    })
    this.#signals.emit('work')
    return { ...run, at: now }
  }

  /**
   * Settles the times that have come: rings, or says why not. Each run, its notification and the next time are stored together,
   * so that whatever dies, each time is settled once; several schedules share what a transaction costs.
   * @returns what became of those that were settled here
   */
  async settle(due: readonly DueSchedule[]): Promise<readonly RunRow['state'][]> {
    if (due.length === 0) return []
    const prepared = await Promise.all(due.map((one) => this.#prepare(one)))
    const settled = await this.#database.transact(async (tx) => {
      const states: RunRow['state'][] = []
      const held = await lockSchedules(
        tx,
        due.map(({ schedule }) => schedule),
      )
      for (const { schedule, dueAt, following, state, made } of prepared) {
        if (!held.has(schedule.no)) continue
        const outcome = typeof made === 'string' ? { says: made } : { notification: schedule.nextId }
        // A time that was settled before, as before a clock was put back, is only left behind.
        if (await settleTime(tx, schedule.no, { dueAt, state, ...outcome })) {
          if (typeof made !== 'string') for (const statement of made) await tx.change(statement)
          states.push(state)
        }
        await moveOn(tx, schedule.no, following, newId())
      }
      return states
    })
    if (settled.length > 0) this.#signals.emit('work')
    return settled
  }

  async #prepare({ schedule, now }: DueSchedule) {
    const { when, graceSeconds } = schedule
    const dueAt = schedule.nextAt ?? now
    const graceMs = graceSeconds * 1_000
    const isMissed = now.getTime() - dueAt.getTime() > graceMs
    // Of many that were missed the first is said, and those that would still ring are looked at one by one.
    const afterMs = isMissed ? Math.max(dueAt.getTime(), now.getTime() - graceMs - 1) : dueAt.getTime()
    const following = (await nextTime(timingOf(when, now.getTime()), afterMs)) ?? null
    const made = isMissed ? 'nothing ran at its time' : await this.#tried(schedule, schedule.nextId, dueAt)
    const state: RunRow['state'] = isMissed ? 'missed' : typeof made === 'string' ? 'failed' : 'rung'
    return { schedule, dueAt, following, state, made }
  }

  /** @returns what stores the run’s notification, or why it cannot be sent */
  async #tried(schedule: ScheduleRow, id: string, dueAt: Date) {
    const app = await findAppByNo(this.#database, schedule.appNo)
    if (!app) return 'its app has gone'
    try {
      return await this.#statements({ app, environment: schedule.environment }, schedule, { id, dueAt })
    } catch (error) {
      if (error instanceof Problem) return error.message
      throw error
    }
  }

  async #statements(
    scope: Scope,
    schedule: ScheduleRow,
    { id, dueAt, atOnce = false }: { readonly id: string; readonly dueAt: Date; readonly atOnce?: boolean },
  ) {
    const { notification, name, graceSeconds, madeBy } = schedule
    const { zone, past = 'skip' } = schedule.when
    const readers = zone === 'reader' && !atOnce ? readersOf(readersHourAt(dueAt), past, dueAt) : undefined
    const built = await buildNotification({ database: this.#database, keptDays: this.#keptDays }, scope, {
      request: notification,
      id,
      // So that it can be asked whom it reached.
      name: notification.name ?? name,
      schedule: name,
      sentBy: madeBy,
      due: { at: dueAt, graceSeconds, readers },
      references: 'all',
    })
    return built.statements
  }

  /**
   * The times of a schedule from an instant on, found in an evaluator process: they can lie far apart.
   * @throws {Problem} `too-slow` or `too-many-requests`
   */
  async preview({ app }: Scope, when: When, count: number, from: Date): Promise<Date[]> {
    const input = { when, count, fromMs: from.getTime() }
    const job = this.#evaluators.run({ appNo: app.no, use: 'previews' }, lookLimits, 'times-of-schedule', input)
    return (await evaluated('Finding its times', job)).map((ms) => new Date(ms))
  }

  /** What rings before a moment, soonest first. */
  async upcoming(
    scope: Scope,
    days: number,
  ): Promise<{ readonly items: readonly UpcomingItem[]; readonly cut: boolean }> {
    const now = await databaseTime(this.#database)
    const until = new Date(now.getTime() + days * 86_400_000)
    const where = whereOf(scope)
    const schedules = await schedulesBefore(this.#database, where, until, maxComing.all + 1)
    let cut = schedules.length > maxComing.all
    const items: UpcomingItem[] = []
    for (const schedule of schedules.slice(0, maxComing.all)) {
      const { name, when, notification, paused, nextAt } = schedule
      if (nextAt === null) continue
      const timing = timingOf(when, now.getTime())
      const from = Math.max(nextAt.getTime(), now.getTime()) - 1
      const times = await nextTimes(timing, from, maxComing.each + 1, until.getTime())
      cut ||= times.length > maxComing.each
      const { values, template = null } = notification
      const content = notification.content as Writing
      const { to: target, mode } = notification
      const channel = content.channel ?? null
      const of = { target, mode, channel }
      const about = { schedule: name, notification: null, name, content, values, template, paused, ...of } as const
      for (const dueAt of times.slice(0, maxComing.each))
        items.push({
          ...about,
          dueAt,
          readersHour: when.zone === 'reader' ? readersHourAt(dueAt) : null,
          repeats: timing.is === 'recurring',
        })
    }
    const waiting = await scheduledBefore(this.#database, where, until, maxComing.all)
    for (const one of waiting) {
      const { dueAt, id, name, content, filling, template, pause, schedule, readerLocal, target, mode, channel } = one
      if (dueAt && schedule === null)
        items.push({
          dueAt,
          schedule: null,
          notification: id,
          name,
          content,
          values: filling.values,
          template,
          readersHour: readerLocal,
          paused: pause === 'paused',
          repeats: false,
          target,
          mode,
          channel: channel?.name ?? null,
        })
    }
    items.sort((a, b) => a.dueAt.getTime() - b.dueAt.getTime())
    return { items: items.slice(0, maxComing.all), cut: cut || items.length > maxComing.all }
  }
}
