import { type Incoming, readIncoming } from './browser/incoming.ts'
import { indexedDbStorage } from './browser/indexed-db-storage.ts'
import { Arrivals } from './states/arrivals.ts'
import { ReceiptBook } from './states/receipt-book.ts'
import { Registration, type ServicePlace } from './states/registration.ts'

/** Where the page left the service's address for the worker. */
export const placeName = 'place'

type Kept = { readonly id: string | undefined; readonly navigate: string | undefined; readonly data: unknown }

/**
 * Makes a service worker show this service's notifications, and any other declarative push message, and report what
 * becomes of them.
 */
export function installBellWorker(scope: ServiceWorkerGlobalScope): void {
  const storage = indexedDbStorage()
  const arrivals = new Arrivals(storage)
  const receipts = new ReceiptBook(storage, async () => {
    const place = await storage.get<ServicePlace>(placeName)
    return place && new Registration(storage, place).client()
  })

  scope.addEventListener('install', () => void scope.skipWaiting())
  scope.addEventListener('activate', (event) => event.waitUntil(scope.clients.claim()))
  scope.addEventListener('push', (event) => {
    const incoming = event.data && readIncoming(event.data.text())
    if (incoming) event.waitUntil(arrive(incoming))
  })
  scope.addEventListener('notificationclick', (event) => {
    event.notification.close()
    event.waitUntil(opened(kept(event.notification), event.action))
  })
  scope.addEventListener('notificationclose', (event) => {
    const { id } = kept(event.notification)
    if (id) event.waitUntil(receipts.add(id, 'dismissed', new Date()).then(() => receipts.flush()))
  })

  async function arrive({ id, mode, title, navigate, options }: Incoming): Promise<void> {
    if (id && !(await arrivals.firstTime(id))) return
    if (id) await receipts.add(id, 'received', new Date())
    if (mode === 'show') {
      const data: Kept = { id, navigate, data: options.data }
      await scope.registration.showNotification(title, { ...options, data })
      if (id) await receipts.add(id, 'shown', new Date())
    }
    await tellPages({ is: 'arrived', id, title, body: options.body })
    await receipts.flush()
  }

  async function opened({ id, navigate }: Kept, action: string): Promise<void> {
    if (id) await receipts.add(id, 'opened', new Date(), action || undefined)
    await Promise.all([receipts.flush(), navigate ? show(navigate) : undefined])
  }

  /** Brings a page of the app to the place, or opens one. */
  async function show(navigate: string): Promise<void> {
    const pages = await scope.clients.matchAll({ type: 'window' })
    const page = pages.find((one) => new URL(one.url).origin === new URL(navigate, scope.location.origin).origin)
    if (!page) {
      await scope.clients.openWindow(navigate)
      return
    }
    await page.focus().catch(() => undefined) // A browser may refuse the focus; the page is still led to its place.
    // A page that this worker does not control cannot be led; then a new one opens there.
    await page.navigate(navigate).catch(() => scope.clients.openWindow(navigate))
  }

  async function tellPages(message: object): Promise<void> {
    for (const page of await scope.clients.matchAll({ type: 'window', includeUncontrolled: true })) {
      page.postMessage({ zephyr: message })
    }
  }
}

const kept = (notification: Notification): Kept => {
  const data = notification.data as Partial<Kept> | null
  return { id: data?.id, navigate: data?.navigate, data: data?.data }
}
