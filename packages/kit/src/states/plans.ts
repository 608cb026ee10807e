import { duePlans, type KeptPlan, keepPlan, type Place, type Plan } from '@zbell/core/states'
import type { DeviceCommands } from './device-commands.ts'
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

  /** Keeps and cancels what a `wake` said. */
  async obey({ plans, cancel }: DeviceCommands, nowMs: number, zone: string): Promise<void> {
    await this.cancel(cancel)
    for (const plan of plans.slice(0, most)) await this.set(plan, nowMs, zone)
  }
}
