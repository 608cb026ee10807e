import { sampleTexts } from '@zbell/core'
import { type Database, type Scope, type Where, whereOf } from '../database/index.ts'
import type { Signals } from '../engine/index.ts'
import { findStop, type StopRow, startApp, stopApp } from '../policy/index.ts'
import type { Intake } from './intake.ts'
import { noteChange, type WaitingForStart, waitingForStart } from './store/read-stopped.ts'

/** So many are listed. */
const maxListed = 200
/** So many are told of at once. */
const maxTold = 10_000

export type Stopped = {
  readonly stopped: StopRow | null
  readonly waiting: readonly (WaitingForStart & { readonly title: string })[]
}

/** What of that which waits is still to ring: all, none, or these. */
export type StillRings = 'all' | 'none' | readonly string[]

/** Halts and starts all that an app sends in an environment. */
export class Stops {
  readonly #database: Database
  readonly #intake: Intake
  readonly #signals: Signals

  constructor(database: Database, intake: Intake, signals: Signals) {
    this.#signals = signals
    this.#database = database
    this.#intake = intake
  }

  async read(scope: Scope): Promise<Stopped> {
    const where = whereOf(scope)
    const stopped = await findStop(this.#database, where)
    if (!stopped) return { stopped: null, waiting: [] }
    const waiting = await waitingForStart(this.#database, where, maxListed)
    return {
      stopped,
      waiting: waiting.map((one) => ({ ...one, title: sampleTexts(one.content, one.filling).title })),
    }
  }

  /** From now on nothing is sent; what is on its way to a gateway at this moment may still arrive. */
  async stop(scope: Scope, given: { readonly reason: string; readonly by: string }): Promise<Stopped> {
    const where = whereOf(scope)
    await stopApp(this.#database, where, given)
    await this.#tell(where)
    this.#signals.emit('pause')
    return this.read(scope)
  }

  /** Lets the app send again. What is not to ring any more is cancelled before anything goes. */
  async start(scope: Scope, rings: StillRings): Promise<Stopped> {
    const where = whereOf(scope)
    if (rings !== 'all') await this.#cancelOthers(scope, rings === 'none' ? [] : rings)
    await startApp(this.#database, where)
    await this.#tell(where)
    this.#signals.emit('pause')
    return this.read(scope)
  }

  /** What waits stands otherwise from now on, and whoever looks at it hears so. */
  async #tell(where: Where): Promise<void> {
    const waiting = await waitingForStart(this.#database, where, maxTold)
    await noteChange(
      this.#database,
      waiting.map(({ no }) => no),
    )
  }

  async #cancelOthers(scope: Scope, kept: readonly string[]): Promise<void> {
    for (;;) {
      const waiting = await waitingForStart(this.#database, whereOf(scope), maxListed + kept.length)
      const others = waiting.filter(({ id }) => !kept.includes(id))
      if (others.length === 0) return
      for (const { id } of others) await this.#intake.cancel(scope, id)
    }
  }
}
