/** Where the kit keeps what has to survive a restart. Values are plain JSON. */
export type KitStorage = {
  get<T>(name: string): Promise<T | undefined>
  set(name: string, value: unknown): Promise<void>
  /** Keeps others away from one name meanwhile, where others can reach the same storage. */
  exclusively?<T>(name: string, act: () => Promise<T>): Promise<T>
}

/** Keeps things for as long as the process lives. */
export function memoryStorage(kept: Record<string, unknown> = {}): KitStorage {
  return {
    get: async <T>(name: string) => kept[name] as T | undefined,
    set: async (name, value) => {
      kept[name] = value
    },
  }
}
