import type { Device } from '@zbell/contract'
import { Client } from '@zbell/contract/client'
import { fromBase64url, type Permission } from '@zbell/core/states'
import { indexedDbStorage } from './browser/indexed-db-storage.ts'
import { ReceiptBook } from './states/receipt-book.ts'
import { Registration, type ServicePlace } from './states/registration.ts'
import { placeName } from './worker.ts'

export type BellOptions = {
  /** The service's address, such as `https://bell.example.org`. */
  readonly service: string
  readonly appKey: string
  /** The service worker's file; it calls `installBellWorker(self)`. */
  readonly worker: string
  /** Makes the push subscription; the browser's own when left out. */
  readonly subscribe?: (
    registration: ServiceWorkerRegistration,
    applicationServerKey: string,
  ) => Promise<PushSubscriptionJSON>
}

export type Arrived = { readonly id?: string; readonly title: string; readonly body?: string }

export type Bell = {
  /** What the user answered; asks nothing. */
  permission(): Permission
  /** Asks the user, if they can still be asked, and registers when they say yes. Call it from a click, never on load. */
  ask(facts?: Facts): Promise<Permission>
  /** Registers this browser, or tells the service what changed. Does nothing while the user has not said yes. */
  register(facts?: Facts): Promise<Device | undefined>
  /** Hears of notifications that arrive while this page is open. @returns what ends the hearing */
  onArrived(listener: (arrived: Arrived) => void): () => void
}

export type Facts = { readonly user?: string | null; readonly muted?: boolean; readonly appVersion?: string }

/** The kit for browsers: permission, registration, and word from the service worker. */
export function createBell(options: BellOptions): Bell {
  const storage = indexedDbStorage()
  const place: ServicePlace = { url: options.service, appKey: options.appKey }
  const registration = new Registration(storage, place)
  const receipts = new ReceiptBook(storage, () => registration.client())
  // Receipts that the worker could not hand over go with the page's next visit, or when the network is back.
  const flush = () => void receipts.flush()
  globalThis.addEventListener?.('online', flush)

  const permission = (): Permission => (Notification.permission === 'default' ? 'prompt' : Notification.permission)

  const register = async (facts: Facts = {}): Promise<Device | undefined> => {
    await storage.set(placeName, place)
    const worker = await navigator.serviceWorker.register(options.worker)
    await navigator.serviceWorker.ready
    if (permission() !== 'granted') {
      await registration.change({ permission: permission() })
      return undefined
    }
    const { applicationServerKey } = await new Client({ url: options.service, bearer: options.appKey }).call(
      'readInstalledApp',
      {},
    )
    if (applicationServerKey === null)
      throw new Error('The app has no web push key yet; store one for this environment.')
    const { endpoint, keys } = asSubscription(
      await (options.subscribe ?? browserSubscription)(worker, applicationServerKey),
    )
    const device = await registration.keep({
      platform: 'web',
      subscription: { endpoint, keys },
      permission: 'granted',
      locale: navigator.language,
      timeZone: Intl.DateTimeFormat().resolvedOptions().timeZone,
      ...facts,
    })
    flush()
    return device
  }

  return {
    permission,
    register,
    ask: async (facts) => {
      if (permission() === 'prompt') await Notification.requestPermission()
      await register(facts)
      return permission()
    },
    onArrived(listener) {
      const hear = (event: MessageEvent) => {
        const message = (event.data as { zephyr?: { is?: string } & Arrived } | null)?.zephyr
        if (message?.is === 'arrived') listener(message)
      }
      navigator.serviceWorker.addEventListener('message', hear)
      return () => navigator.serviceWorker.removeEventListener('message', hear)
    },
  }
}

async function browserSubscription(
  worker: ServiceWorkerRegistration,
  applicationServerKey: string,
): Promise<PushSubscriptionJSON> {
  const key = fromBase64url(applicationServerKey)
  if (!key) throw new Error('The app’s web push key is not base64url.')
  const subscription = await worker.pushManager.subscribe({ userVisibleOnly: true, applicationServerKey: key })
  return subscription.toJSON()
}

function asSubscription({ endpoint, keys }: PushSubscriptionJSON) {
  if (!endpoint || !keys?.p256dh || !keys.auth)
    throw new Error('The browser gave a push subscription without its keys.')
  return { endpoint, keys: { p256dh: keys.p256dh, auth: keys.auth } }
}
