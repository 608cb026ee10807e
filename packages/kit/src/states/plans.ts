import { duePlans, type KeptPlan, keepPlan, type Place, type Plan, planFault } from '@zbell/core/states'
import { Kept } from './kept.ts'
import type { KitStorage } from './storage.ts'

/** A device keeps so many plans at most. */
const most = 64

/** Notifications that the device rings by itself, without a network; they survive a restart. */
export class Plans {
  readonly #plans: Kept<readonly KeptPlan[]>

  constructor(storage: KitStorage) {
    this.#plans = new Kept(storage, 'plans', [])
  }

  list(): Promise<readonly KeptPlan[]> {
    return this.#plans.read()
  }

  /** Sets a plan; one of the same name gives way. @throws {RangeError} in a sentence, for one that cannot be kept */
  async set(plan: Plan, nowMs: number, zone: string): Promise<KeptPlan> {
    const kept = keepPlan(plan, nowMs, zone)
    await this.#plans.change((all) => {
      const others = all.filter(({ name }) => name !== plan.name)
      if (others.length >= most) throw new RangeError(`a device keeps ${most} plans at most`)
      return [...others, kept]
    })
    return kept
  }

  /** @param names which; all when left out @returns how many there were */
  async cancel(names?: readonly string[]): Promise<number> {
    let gone = 0
    await this.#plans.change((all) => {
      const left = names ? all.filter(({ name }) => !names.includes(name)) : []
      gone = all.length - left.length
      return left
    })
    return gone
  }

  /** The plans that ring now; each rings once, also when two ask in the same moment. */
  async due(nowMs: number, zone: string, at: Place | undefined): Promise<readonly KeptPlan[]> {
    let rings: readonly KeptPlan[] = []
    await this.#plans.change((all) => {
      const found = duePlans(all, nowMs, zone, at)
      rings = found.rings
      return JSON.stringify(found.kept) === JSON.stringify(all) ? all : found.kept
    })
    return rings
  }

  /** When the next one rings, in ms since the epoch. */
  async next(): Promise<number | undefined> {
    const times = (await this.#plans.read()).flatMap(({ ringsAtMs }) => (ringsAtMs === undefined ? [] : [ringsAtMs]))
    return times.length === 0 ? undefined : Math.min(...times)
  }

  /**
   * Takes orders that came with a `wake` message, in `data.bell`: plans to set, names to cancel. What cannot be kept is left
   * out: nobody is there to hear of it, and one bad plan must not cost the others.
   */
  async obey(data: unknown, nowMs: number, zone: string): Promise<void> {
    const { plans, cancel } = (asObject(asObject(data).bell) ?? {}) as { plans?: unknown; cancel?: unknown }
    if (Array.isArray(cancel)) await this.cancel(cancel.filter((name): name is string => typeof name === 'string'))
    for (const plan of Array.isArray(plans) ? plans.slice(0, most) : []) {
      if (isPlan(plan) && planFault(plan) === undefined) await this.set(plan, nowMs, zone)
    }
  }
}

const asObject = (value: unknown): Record<string, unknown> =>
  typeof value === 'object' && value !== null ? (value as Record<string, unknown>) : {}

/** The shape of a plan; what stands in it is looked at by {@link planFault}. */
function isPlan(value: unknown): value is Plan {
  const { name, when, content } = asObject(value)
  const { title } = asObject(content)
  const { afterSeconds, at, from, repeat, place, metres, on } = asObject(when)
  const { longitude, latitude } = asObject(place)
  const known =
    typeof afterSeconds === 'number' ||
    typeof at === 'string' ||
    (typeof from === 'string' && typeof repeat === 'string') ||
    (typeof longitude === 'number' &&
      typeof latitude === 'number' &&
      typeof metres === 'number' &&
      (on === 'enter' || on === 'leave'))
  return typeof name === 'string' && typeof title === 'string' && known
}
