import type { KitStorage } from '../states/storage.ts'

const shelf = 'kept'

/** Keeps things in IndexedDB, where page and service worker both find them. */
export function indexedDbStorage(database = 'zephyr-bell'): KitStorage {
  let opened: Promise<IDBDatabase> | undefined
  const open = () => {
    opened ??= new Promise((done, fail) => {
      const request = indexedDB.open(database, 1)
      request.onupgradeneeded = () => request.result.createObjectStore(shelf)
      request.onsuccess = () => done(request.result)
      request.onerror = () => fail(request.error)
    })
    return opened
  }
  const run = async <T>(mode: IDBTransactionMode, act: (store: IDBObjectStore) => IDBRequest<T>): Promise<T> => {
    const store = (await open()).transaction(shelf, mode).objectStore(shelf)
    return new Promise((done, fail) => {
      const request = act(store)
      request.onsuccess = () => done(request.result)
      request.onerror = () => fail(request.error)
    })
  }
  return {
    get: <T>(name: string) => run<T | undefined>('readonly', (store) => store.get(name)),
    set: async (name, value) => {
      await run('readwrite', (store) => store.put(value, name))
    },
    // Page and service worker change the same things at the same time (Web Locks API).
    exclusively: <T>(name: string, act: () => Promise<T>) =>
      navigator.locks ? (navigator.locks.request(`${database} ${name}`, act) as Promise<T>) : act(),
  }
}
