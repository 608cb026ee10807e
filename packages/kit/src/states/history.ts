import { Kept } from './kept.ts'
import type { KitStorage } from './storage.ts'

/** An in-app list shows no more; older ones fall off. */
const kept = 100

/** One notification in the app's own list. Times are ms since the epoch. */
export type Remembered = {
  readonly id: string
  readonly title: string
  readonly body?: string
  readonly navigate?: string
  readonly tag?: string
  readonly data?: unknown
  readonly atMs: number
  readonly readAtMs?: number
}

/** What rang last on this device, for an in-app list. */
export class History {
  readonly #list: Kept<readonly Remembered[]>

  constructor(storage: KitStorage) {
    this.#list = new Kept(storage, 'history', [])
  }

  /** Newest first. */
  list(): Promise<readonly Remembered[]> {
    return this.#list.read()
  }

  async unread(): Promise<number> {
    return (await this.#list.read()).filter(({ readAtMs }) => readAtMs === undefined).length
  }

  async add(one: Remembered): Promise<void> {
    await this.#list.change((all) => (all.some(({ id }) => id === one.id) ? all : [one, ...all].slice(0, kept)))
  }

  /** @param ids which; all when left out */
  async read(nowMs: number, ids?: readonly string[]): Promise<void> {
    await this.#list.change((all) =>
      all.map((one) =>
        one.readAtMs === undefined && (ids?.includes(one.id) ?? true) ? { ...one, readAtMs: nowMs } : one,
      ),
    )
  }

  /** At sign-out: the next person on this device sees nothing of the one before. */
  async clear(): Promise<void> {
    await this.#list.change(() => [])
  }
}
