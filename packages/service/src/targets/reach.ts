import type { Mode, Target } from '@zbell/core'
import pLimit from 'p-limit'
import { Abandoned, type Database, TooSlow, type Where } from '../database/index.ts'
import { tallyTarget } from './store/tally-target.ts'

/** How many a target has now, of those that would be rung. */
export type Reach = { readonly devices: number; readonly people: number; readonly estimated: boolean }

/** A page waits for so long; what is not counted by then stays unknown. */
const withinMs = 2_500
/** So long a count is good for, and so many are kept. */
const keptMs = 30_000
const maxKept = 500

type ReachQuery = { readonly target: Target; readonly mode: Mode }

/** Counts targets for a page that shows many of them: each once, a few at a time, and not again for a while. */
export class ReachCounter {
  readonly #database: Database
  readonly #kept = new Map<string, { readonly reach: Reach; readonly untilMs: number }>()

  constructor(database: Database) {
    this.#database = database
  }

  /** @returns for each what is known of it in time; null for what is not */
  async count(where: Where, all: readonly ReachQuery[]): Promise<(Reach | null)[]> {
    const enough = AbortSignal.timeout(withinMs)
    const few = pLimit(2)
    const counts = new Map<string, Promise<Reach | null>>()
    for (const one of all) {
      const name = JSON.stringify([where.appNo, where.environment, one.target, one.mode])
      if (!counts.has(name))
        counts.set(
          name,
          few(() => this.#one(name, where, one, enough)),
        )
    }
    return Promise.all(
      all.map(({ target, mode }) => counts.get(JSON.stringify([where.appNo, where.environment, target, mode])) ?? null),
    )
  }

  async #one(name: string, where: Where, { target, mode }: ReachQuery, enough: AbortSignal): Promise<Reach | null> {
    const known = this.#kept.get(name)
    if (known && known.untilMs > performance.now()) return known.reach
    if (enough.aborted) return null
    try {
      const reader = this.#database.bounded({ withinMs, signal: enough })
      const asked = { names: [], mode, channelNo: null, exact: false }
      const { groups, people, estimated } = await tallyTarget(reader, target, where, asked)
      const rings = groups.filter(({ permission, muted }) => mode === 'wake' || (permission === 'granted' && !muted))
      const reach = { devices: rings.reduce((sum, { devices }) => sum + devices, 0), people, estimated }
      this.#kept.delete(name)
      this.#kept.set(name, { reach, untilMs: performance.now() + keptMs })
      const [oldest] = this.#kept.keys()
      if (this.#kept.size > maxKept && oldest !== undefined) this.#kept.delete(oldest)
      return reach
    } catch (error) {
      if (error instanceof TooSlow || error instanceof Abandoned) return null
      throw error
    }
  }
}
