import { LRUCache } from 'lru-cache'
import type { Scope } from '../database/index.ts'

const keptMs = 60_000
const maxKept = 1_000

/** Which app and environment keys led to when they were last asked about; by their hashes, since keys are not kept. */
export class LatelyFound {
  readonly #found: LRUCache<string, Scope>

  /** @param now a clock in ms that never goes back */
  constructor(now: () => number = () => performance.now()) {
    this.#found = new LRUCache({ max: maxKept, ttl: keptMs, ttlResolution: 0, perf: { now } })
  }

  scope(hash: Buffer): Scope | undefined {
    return this.#found.get(nameOf(hash))
  }

  /** @param scope `undefined` when the key opens nothing (any more) */
  note(hash: Buffer, scope: Scope | undefined): void {
    if (scope === undefined) this.#found.delete(nameOf(hash))
    else this.#found.set(nameOf(hash), scope)
  }
}

const nameOf = (hash: Buffer): string => hash.toString('base64')
