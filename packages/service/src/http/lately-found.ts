import type { Scope } from '../store/apps/apps.ts'

const keptMs = 60_000
const mostKept = 1_000

/** Which app and environment keys led to when they were last asked about; by their hashes, since keys are not kept. */
export class LatelyFound {
  readonly #found = new Map<string, { readonly scope: Scope; readonly untilMs: number }>()
  readonly #now: () => number

  constructor(now: () => number = Date.now) {
    this.#now = now
  }

  scope(hash: Buffer): Scope | undefined {
    const found = this.#found.get(nameOf(hash))
    return found && found.untilMs > this.#now() ? found.scope : undefined
  }

  /** @param scope `undefined` when the key opens nothing (any more) */
  note(hash: Buffer, scope: Scope | undefined): void {
    const name = nameOf(hash)
    // Anew at the end, so that the first is the one that was not asked about for longest.
    this.#found.delete(name)
    if (scope === undefined) return
    this.#found.set(name, { scope, untilMs: this.#now() + keptMs })
    const [oldest] = this.#found.keys()
    if (this.#found.size > mostKept && oldest !== undefined) this.#found.delete(oldest)
  }
}

const nameOf = (hash: Buffer): string => hash.toString('base64')
